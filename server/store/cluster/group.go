package cluster

import "syscall"

// ownGroup keeps a Ctrl-C on the terminal from reaching the database before it
// is stopped in order.
func ownGroup() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }
