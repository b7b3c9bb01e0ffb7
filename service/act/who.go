package act

import (
	"kembrel/api"
)

// Who is the person behind a request; the zero value is nobody.
type Who struct {
	ID            int64
	Name          string
	Administrator bool
	HasPassword   bool
	Session       []byte // hash of the session, where one was used
	Credential    []byte // hash of the token or session
	Token         int64  // the token used, or that the session comes from; 0: none
}

// Allow is the one place that decides whether someone may call an operation.
func Allow(who Who, access api.Access) error {
	switch {
	case access == api.Anyone:
		return nil
	case who.ID == 0:
		return api.Fail(api.SignedOut, "sign in, or send a token: Authorization: Bearer ...")
	case access == api.Administrator && !who.Administrator:
		return api.Fail(api.Denied, "only an administrator may do this; %s is none", who.Name)
	}
	return nil
}
