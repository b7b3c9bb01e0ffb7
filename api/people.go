package api

import "time"

// Me is the person who asks.
type Me struct {
	Name          string `json:"name"`
	Administrator bool   `json:"administrator"`
	HasPassword   bool   `json:"has_password"`
}

// SignIn is a name and password.
type SignIn struct {
	Name     string `json:"name" minLength:"1" maxLength:"80"`
	Password string `json:"password" minLength:"1" maxLength:"1000"`
}

// SignInInput carries a sign-in.
type SignInInput struct{ Body SignIn }

// LinkInput carries the code of a one-time sign-in link.
type LinkInput struct {
	Body struct {
		Code string `json:"code" minLength:"1" maxLength:"100"`
	}
}

// Link is a one-time sign-in link.
type Link struct {
	Path    string    `json:"path" doc:"To be put behind the service's address"`
	Expires time.Time `json:"expires"`
}

// PasswordInput sets the caller's password.
type PasswordInput struct {
	Body struct {
		Password     string `json:"password" minLength:"10" maxLength:"1000"`
		Old          string `json:"old,omitempty" maxLength:"1000" doc:"The present password, where there is one"`
		RevokeTokens bool   `json:"revoke_tokens,omitempty" doc:"End all other tokens of the caller too"`
	}
}

// NewPerson adds a person.
type NewPerson struct {
	Body struct {
		Name          string `json:"name" minLength:"1" maxLength:"80" pattern:"^[\\p{L}\\p{N}][\\p{L}\\p{N} ._-]*$" patternDescription:"letters, digits, spaces, dots, hyphens"`
		Password      string `json:"password,omitempty" minLength:"10" maxLength:"1000"`
		Administrator bool   `json:"administrator,omitempty"`
	}
}

// Token is a personal token without its secret.
type Token struct {
	ID      int64      `json:"id"`
	Name    string     `json:"name"`
	Created time.Time  `json:"created"`
	Expires time.Time  `json:"expires"`
	Revoked *time.Time `json:"revoked,omitempty"`
	Used    *time.Time `json:"used,omitempty" doc:"Last used; exact to a minute"`
	Parent  *int64     `json:"parent,omitempty" doc:"The token that it was made with, and ends with"`
}

// NewToken asks for a personal token.
type NewToken struct {
	Body struct {
		Name string `json:"name" minLength:"1" maxLength:"80"`
		Days int    `json:"days,omitempty" minimum:"1" maximum:"730" default:"90" doc:"Days until it expires"`
	}
}

// CreatedToken is a token with its secret, shown this once.
type CreatedToken struct {
	Token
	Secret string `json:"secret"`
}

// TokenInput names a token.
type TokenInput struct {
	ID int64 `path:"id"`
}

// The operations on who you are.
var (
	SignInWithPassword = declare[SignInInput, Me](Spec{ID: "sign-in", Method: "POST", Path: "/session", Summary: "Sign in with a password", Access: Anyone})
	SignInWithLink     = declare[LinkInput, Me](Spec{ID: "sign-in-by-link", Method: "POST", Path: "/session/link", Summary: "Sign in with a one-time link", Access: Anyone})
	SignOut            = declare[struct{}, None](Spec{ID: "sign-out", Method: "DELETE", Path: "/session", Summary: "End this session", Access: SignedIn})
	GetMe              = declare[struct{}, Me](Spec{ID: "me", Method: "GET", Path: "/me", Summary: "Who is asking", Access: SignedIn})
	SetPassword        = declare[PasswordInput, None](Spec{ID: "set-password", Method: "PUT", Path: "/me/password", Summary: "Set one's own password", Access: SignedIn})
	CreateLink         = declare[struct{}, Link](Spec{ID: "create-sign-in-link", Method: "POST", Path: "/me/links", Summary: "Create a one-time sign-in link for oneself", Access: SignedIn, Status: 201})
	ListPeople         = declare[PageInput, Page[Me]](Spec{ID: "people", Method: "GET", Path: "/people", Summary: "List people", Access: SignedIn})
	AddPerson          = declare[NewPerson, Me](Spec{ID: "add-person", Method: "POST", Path: "/people", Summary: "Add a person", Access: Administrator, Status: 201})
	ListTokens         = declare[struct{}, Page[Token]](Spec{ID: "tokens", Method: "GET", Path: "/tokens", Summary: "List one's tokens", Access: SignedIn})
	CreateToken        = declare[NewToken, CreatedToken](Spec{ID: "create-token", Method: "POST", Path: "/tokens", Summary: "Create a personal token", Access: SignedIn, Status: 201})
	RevokeToken        = declare[TokenInput, None](Spec{ID: "revoke-token", Method: "DELETE", Path: "/tokens/{id}", Summary: "Revoke a token", Access: SignedIn})
)

// Health is the state of the service.
type Health struct {
	State   string `json:"state" enum:"ok,down" doc:"ok or down"`
	Version string `json:"version"`
	Level   int    `json:"level" doc:"Of the API; a client of a higher one may ask for what this service does not know"`
	Disk    *Disk  `json:"disk,omitempty" doc:"Of the blobs, where they are on a disk"`
}

// Disk is how the disk of the blobs stands. Part of it is kept free for the database; what is missing of that keeps checkpoints waiting.
type Disk struct {
	Folder  string `json:"folder"`
	Free    int64  `json:"free" doc:"Bytes"`
	Reserve int64  `json:"reserve" doc:"Bytes kept for the database"`
	Missing int64  `json:"missing" doc:"Bytes that must become free before checkpoints are kept again; 0: there is room"`
	Says    string `json:"says,omitempty" doc:"What is wrong and what to do"`
}

// The operations on the service itself.
var (
	GetHealth = declare[struct{}, Health](Spec{ID: "health", Method: "GET", Path: "/health", Summary: "The process answers", Access: Anyone})
	GetReady  = declare[struct{}, Health](Spec{ID: "ready", Method: "GET", Path: "/ready", Summary: "Database and blob store answer", Access: Anyone})
)
