package api

import "fmt"

// Role says what somebody may, on the service or on a project; each may what those before it may.
type Role int

// The roles. Those from Reader to Owner are given to people and teams; the others are what anybody is.
const (
	Anyone        Role = iota
	SignedIn           // has a session or a token
	Reader             // sees
	Recorder           // also records runs
	Member             // also changes, compares, archives, keeps, searches
	Approver           // also signs off guarded standings
	Owner              // also gives roles, sets rules, deletes
	Administrator      // of the service
)

var roleNames = []string{"anyone", "signed-in", "reader", "recorder", "member", "approver", "owner", "administrator"}

// String is the role's name.
func (r Role) String() string {
	if r < 0 || int(r) >= len(roleNames) {
		return "unknown"
	}
	return roleNames[r]
}

// ParseRole reads the name of a role that can be given.
func ParseRole(name string) (Role, error) {
	for r := Reader; r <= Owner; r++ {
		if roleNames[r] == name {
			return r, nil
		}
	}
	return 0, fmt.Errorf("%.40q is no role; there are reader, recorder, member, approver and owner", name)
}

// RoleName is the name of a role that can be given.
type RoleName string

// Of is the role of that name; 0: none.
func (n RoleName) Of() Role {
	r, err := ParseRole(string(n))
	if err != nil {
		return 0
	}
	return r
}
