package notifying

import (
	"context"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/notice"
	"kestite/server/incidents"
	"kestite/server/store/gen/db"
)

// Preview is what a shared contact method would be sent as an incident begins, as it would
// arrive there; nothing is sent. The spec need not be saved.
func (k *Keeper) Preview(ctx context.Context, snap *catalogue.Snapshot, c definition.ContactSpec, of db.Incident) (string, error) {
	s, err := k.said(ctx, snap, incidents.Of(of), notice.Begun)
	if err != nil {
		return "", err
	}
	s.DueAt = s.Now
	m := Message{Subject: s.Subject(), Text: s.Text(), Short: s.Short(), Values: s.Values()}
	switch c.Kind {
	case definition.Webhook:
		body, err := hookBody(c, m)
		return string(body), err
	case definition.Chat:
		body, err := chatBody(m)
		return string(body), err
	case definition.SMS:
		return m.Short, nil
	case definition.Syslog:
		return m.Subject, nil
	case definition.Script:
		line := c.Address
		for _, a := range c.Args {
			line += "\n  " + argument(a, m.Values)
		}
		return line + "\n\n" + m.Subject + "\n\n" + m.Text, nil
	}
	return m.Subject + "\n\n" + m.Text, nil
}
