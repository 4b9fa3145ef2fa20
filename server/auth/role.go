package auth

// Role is what a person may do; each may do all that those below it may.
type Role string

// The roles, from the least.
const (
	Viewer        Role = "viewer"
	Operator      Role = "operator"
	Manager       Role = "manager"
	Administrator Role = "administrator"
)

var rank = map[Role]int{Viewer: 1, Operator: 2, Manager: 3, Administrator: 4}

// Covers says whether someone with role r may do what needs the role needed.
func (r Role) Covers(needed Role) bool { return rank[r] > 0 && rank[r] >= rank[needed] }

// Known says whether r is a role.
func (r Role) Known() bool { return rank[r] > 0 }
