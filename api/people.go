package api

import "time"

// Me is the person who asks.
type Me struct {
	Name          string   `json:"name"`
	Administrator bool     `json:"administrator"`
	HasPassword   bool     `json:"has_password"`
	Role          RoleName `json:"role,omitempty" doc:"What they are on the service, with the token or session used; absent: nothing beyond what everybody is"`
	Scope         *Scope   `json:"scope,omitempty" doc:"What the token used is narrowed to"`
}

// Scope is what a token is narrowed to.
type Scope struct {
	Role     RoleName `json:"role,omitempty" doc:"At most this; absent: all that its person is"`
	Project  string   `json:"project,omitempty" doc:"Only there; absent: everywhere"`
	Networks []string `json:"networks,omitempty" maxItems:"20" doc:"Only from these addresses, such as 10.1.0.0/16; absent: from all"`
}

// Person is someone who may sign in, or a machine, which has tokens only.
type Person struct {
	Name          string     `json:"name"`
	Kind          string     `json:"kind" enum:"person,machine"`
	Administrator bool       `json:"administrator"`
	Role          RoleName   `json:"role,omitempty" doc:"On the service, given to themselves: it holds on every open project"`
	Teams         []string   `json:"teams" doc:"That they are in"`
	Team          string     `json:"team,omitempty" doc:"That a machine belongs to"`
	Email         string     `json:"email,omitempty"`
	Closed        *time.Time `json:"closed,omitempty" doc:"Since when they sign in no more"`
}

// PersonInput names a person.
type PersonInput struct {
	Name string `path:"name" maxLength:"80"`
}

// PersonEdit changes a person; what is absent stays as it was.
type PersonEdit struct {
	PersonInput
	Body struct {
		Administrator *bool     `json:"administrator,omitempty"`
		Closed        *bool     `json:"closed,omitempty" doc:"Closed: sessions and tokens end at once; what they made stays under their name"`
		Email         *string   `json:"email,omitempty" maxLength:"200"`
		Role          *RoleName `json:"role,omitempty" enum:",reader,recorder,member,approver,owner" doc:"On the service; empty: none"`
	}
}

// Session is a console session.
type Session struct {
	ID      int64     `json:"id"`
	Created time.Time `json:"created"`
	Used    time.Time `json:"used" doc:"Exact to a minute"`
	Expires time.Time `json:"expires"`
	From    string    `json:"from" doc:"Address from which it was opened"`
	This    bool      `json:"this" doc:"The one that asks"`
}

// SessionInput names a session.
type SessionInput struct {
	ID int64 `path:"id"`
}

// Credentials are the tokens and sessions of a person.
type Credentials struct {
	Tokens   []Token   `json:"tokens"`
	Sessions []Session `json:"sessions"`
}

// Team is a team with its people.
type Team struct {
	Name   string   `json:"name"`
	People []string `json:"people"`
}

// TeamInput names a team.
type TeamInput struct {
	Team string `path:"team" minLength:"1" maxLength:"80"`
}

// TeamEdit makes a team, or says who is in it.
type TeamEdit struct {
	TeamInput
	Body struct {
		People []string `json:"people" maxItems:"1000" doc:"All of them"`
	}
}

// GivenRole is a role of a person or a team.
type GivenRole struct {
	Person string    `json:"person,omitempty"`
	Team   string    `json:"team,omitempty" doc:"One of the two"`
	Role   RoleName  `json:"role" enum:"reader,recorder,member,approver,owner"`
	Given  time.Time `json:"given"`
}

// RoleEdit gives a role, in place of the one that was given before.
type RoleEdit struct {
	Person string   `json:"person,omitempty" maxLength:"80"`
	Team   string   `json:"team,omitempty" maxLength:"80" doc:"One of the two"`
	Role   RoleName `json:"role" enum:"reader,recorder,member,approver,owner"`
}

// RoleInput gives a role on the service.
type RoleInput struct{ Body RoleEdit }

// ProjectRoleInput gives a role on a project.
type ProjectRoleInput struct {
	ProjectInput
	Body RoleEdit
}

// RoleHolder says whose role is taken away.
type RoleHolder struct {
	Person string `query:"person" maxLength:"80"`
	Team   string `query:"team" maxLength:"80"`
}

// ProjectRoleHolder is a RoleHolder on a project.
type ProjectRoleHolder struct {
	ProjectInput
	RoleHolder
}

// SignIn is a name and password.
type SignIn struct {
	Name     string `json:"name" minLength:"1" maxLength:"80"`
	Password string `json:"password" minLength:"1" maxLength:"1000"`
}

// SignInInput carries a sign-in.
type SignInInput struct{ Body SignIn }

// Ended is what is left to do after a session has ended.
type Ended struct {
	Elsewhere string `json:"elsewhere,omitempty" doc:"Address at which the person is signed out of the provider too that they signed in with"`
}

// Provider is a service elsewhere that people sign in with.
type Provider struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Path  string `json:"path" doc:"Where a browser begins to sign in with it; next=PAGE is gone to then"`
}

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
		Name          string   `json:"name" minLength:"1" maxLength:"80" pattern:"^[\\p{L}\\p{N}][\\p{L}\\p{N} ._-]*$" patternDescription:"letters, digits, spaces, dots, hyphens"`
		Password      string   `json:"password,omitempty" minLength:"10" maxLength:"1000"`
		Administrator bool     `json:"administrator,omitempty"`
		Machine       bool     `json:"machine,omitempty" doc:"It has tokens only, and signs in nowhere"`
		Team          string   `json:"team,omitempty" maxLength:"80" doc:"That a machine belongs to"`
		Email         string   `json:"email,omitempty" maxLength:"200"`
		Role          RoleName `json:"role,omitempty" enum:",reader,recorder,member,approver,owner" doc:"On the service; empty: they see open projects, and no more"`
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
	From    string     `json:"from,omitempty" doc:"Address from which it was last used"`
	Parent  *int64     `json:"parent,omitempty" doc:"The token that it was made with, and ends with"`
	Scope   *Scope     `json:"scope,omitempty" doc:"What it is narrowed to"`
}

// NewToken asks for a personal token.
type NewToken struct {
	Body struct {
		Name string `json:"name" minLength:"1" maxLength:"80"`
		Days int    `json:"days,omitempty" minimum:"1" maximum:"730" default:"90" doc:"Days until it expires"`
		Scope
	}
}

// NewTokenFor is NewToken for somebody else, as for a machine.
type NewTokenFor struct {
	PersonInput
	NewToken
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
	SignInWithPassword = declare[SignInInput, Me](Spec{ID: "sign-in", Method: "POST", Path: "/session",
		Summary: "Sign in with a password", Access: Anyone})
	SignInWithLink = declare[LinkInput, Me](Spec{ID: "sign-in-by-link", Method: "POST", Path: "/session/link",
		Summary: "Sign in with a one-time link", Access: Anyone})
	ListProviders = declare[struct{}, Page[Provider]](Spec{ID: "providers", Method: "GET",
		Path: "/session/providers", Summary: "List the services that people sign in with", Access: Anyone})
	SignOut = declare[struct{}, Ended](Spec{ID: "sign-out", Method: "DELETE", Path: "/session",
		Summary: "End this session", Access: SignedIn})
	GetMe = declare[struct{}, Me](Spec{ID: "me", Method: "GET", Path: "/me", Summary: "Who is asking",
		Access: SignedIn})
	SetPassword = declare[PasswordInput, None](Spec{ID: "set-password", Method: "PUT", Path: "/me/password",
		Summary: "Set one's own password", Access: SignedIn, Whole: true})
	CreateLink = declare[struct{}, Link](Spec{ID: "create-sign-in-link", Method: "POST", Path: "/me/links",
		Summary: "Create a one-time sign-in link for oneself", Access: SignedIn, Whole: true, Status: 201})
	ListSessions = declare[struct{}, Page[Session]](Spec{ID: "sessions", Method: "GET", Path: "/me/sessions",
		Summary: "List one's sessions", Access: SignedIn, Whole: true})
	EndSession = declare[SessionInput, None](Spec{ID: "end-session", Method: "DELETE",
		Path: "/me/sessions/{id}", Summary: "End one of one's sessions", Access: SignedIn, Whole: true})
	ListTokens = declare[struct{}, Page[Token]](Spec{ID: "tokens", Method: "GET", Path: "/tokens",
		Summary: "List one's tokens", Access: SignedIn, Whole: true})
	CreateToken = declare[NewToken, CreatedToken](Spec{ID: "create-token", Method: "POST", Path: "/tokens",
		Summary: "Create a personal token", Access: SignedIn, Status: 201})
	RevokeToken = declare[TokenInput, None](Spec{ID: "revoke-token", Method: "DELETE", Path: "/tokens/{id}",
		Summary: "Revoke a token", Access: SignedIn, Whole: true})
)

// The operations on people, teams and roles.
var (
	ListPeople = declare[PageInput, Page[Person]](Spec{ID: "people", Method: "GET", Path: "/people",
		Summary: "List people and machines", Access: SignedIn})
	AddPerson = declare[NewPerson, Person](Spec{ID: "add-person", Method: "POST", Path: "/people",
		Summary: "Add a person or a machine", Access: Administrator, Status: 201})
	ChangePerson = declare[PersonEdit, Person](Spec{ID: "change-person", Method: "PATCH", Path: "/people/{name}",
		Summary: "Change what a person is, close them, or let them in again", Access: Administrator})
	CreateLinkFor = declare[PersonInput, Link](Spec{ID: "create-sign-in-link-for", Method: "POST",
		Path:    "/people/{name}/links",
		Summary: "Create a one-time sign-in link for a person: the first one, or where a password was forgotten",
		Access:  Administrator, Whole: true, Status: 201})
	CreateTokenFor = declare[NewTokenFor, CreatedToken](Spec{ID: "create-token-for", Method: "POST",
		Path: "/people/{name}/tokens", Summary: "Create a token for a machine", Access: Administrator, Whole: true,
		Status: 201})
	ListCredentials = declare[PersonInput, Credentials](Spec{ID: "credentials", Method: "GET",
		Path: "/people/{name}/credentials", Summary: "List a person's tokens and sessions", Access: Administrator})
	EndCredentials = declare[PersonInput, None](Spec{ID: "end-credentials", Method: "DELETE",
		Path: "/people/{name}/credentials", Summary: "End all tokens and sessions of a person", Access: Administrator})
	ListTeams = declare[struct{}, Page[Team]](Spec{ID: "teams", Method: "GET", Path: "/teams",
		Summary: "List teams", Access: SignedIn})
	SetTeam = declare[TeamEdit, Team](Spec{ID: "set-team", Method: "PUT", Path: "/teams/{team}",
		Summary: "Create a team, or say who is in it", Access: Administrator})
	DropTeam = declare[TeamInput, None](Spec{ID: "delete-team", Method: "DELETE", Path: "/teams/{team}",
		Summary: "Delete a team with the roles given to it", Access: Administrator})
	ListRoles = declare[struct{}, Page[GivenRole]](Spec{ID: "roles", Method: "GET", Path: "/roles",
		Summary: "List the roles given on the service", Access: SignedIn})
	SetRole = declare[RoleInput, GivenRole](Spec{ID: "set-role", Method: "PUT", Path: "/roles",
		Summary: "Give a role on the service: it holds on every open project", Access: Administrator})
	DropRole = declare[RoleHolder, None](Spec{ID: "drop-role", Method: "DELETE", Path: "/roles",
		Summary: "Take a role on the service away", Access: Administrator})
	ListProjectRoles = declare[ProjectInput, Page[GivenRole]](Spec{ID: "project-roles", Method: "GET",
		Path: "/projects/{project}/roles", Summary: "List the roles given on a project", Access: Reader})
	SetProjectRole = declare[ProjectRoleInput, GivenRole](Spec{ID: "set-project-role", Method: "PUT",
		Path: "/projects/{project}/roles", Summary: "Give a role on a project", Access: Owner})
	DropProjectRole = declare[ProjectRoleHolder, None](Spec{ID: "drop-project-role", Method: "DELETE",
		Path: "/projects/{project}/roles", Summary: "Take a role on a project away", Access: Owner})
)

// AuditInput asks for events. What is empty is not asked for.
type AuditInput struct {
	PageInput
	Who     string    `query:"who" maxLength:"80" doc:"By this person"`
	Kind    string    `query:"kind" maxLength:"40" example:"session" doc:"Of this kind of thing"`
	Verb    string    `query:"verb" maxLength:"40" example:"sign-in-failed"`
	Subject string    `query:"subject" maxLength:"200" example:"vessels/3" doc:"Of this thing, and for a run of its checkpoints"`
	Since   time.Time `query:"since"`
	Until   time.Time `query:"until"`
}

// ServiceAuditInput asks for events of all projects, or of one, and of the service.
type ServiceAuditInput struct {
	AuditInput
	Project string `query:"project" maxLength:"40"`
}

// ProjectAuditInput asks for events of a project.
type ProjectAuditInput struct {
	ProjectInput
	AuditInput
}

// AuditCheck is what checking the chain of events came to.
type AuditCheck struct {
	Events int64  `json:"events" doc:"In the chain"`
	Whole  bool   `json:"whole" doc:"None was changed, taken out or put in"`
	At     int64  `json:"at,omitempty" doc:"Number of the event where it is not"`
	Why    string `json:"why,omitempty" enum:",changed,gone,beside" doc:"changed: the event is not what it was; gone: it is not there; beside: it was put in and is not in the chain"`
	Digest string `json:"digest" doc:"Of the last event: noted elsewhere, it shows later that none before it was changed, nor all cut off behind it"`
	Says   string `json:"says"`
}

// The operations on the audit.
var (
	GetAudit = declare[ServiceAuditInput, Page[Event]](Spec{ID: "audit", Method: "GET", Path: "/audit",
		Summary: "List what was done, the latest first", Access: Administrator})
	GetProjectAudit = declare[ProjectAuditInput, Page[Event]](Spec{ID: "project-audit", Method: "GET",
		Path: "/projects/{project}/audit", Summary: "List what was done in a project, the latest first", Access: Owner})
	CheckAudit = declare[struct{}, AuditCheck](Spec{ID: "check-audit", Method: "POST", Path: "/audit/check",
		Summary: "Check that no event was changed, taken out or put in", Access: Administrator,
		Status: 200, Long: true})
)

// Health is the state of the service.
type Health struct {
	State   string `json:"state" enum:"ok,down" doc:"ok or down"`
	Version string `json:"version"`
	Level   int    `json:"level" doc:"Of the API; a client of a higher one may ask for what this service does not know"`
	Disk    *Disk  `json:"disk,omitempty" doc:"Of the blobs, where they are on a disk"`
}

// Disk is how the disk of the blobs stands. Part of it is kept free for the database; what is missing of that keeps
// checkpoints waiting.
type Disk struct {
	Folder  string `json:"folder"`
	Free    int64  `json:"free" doc:"Bytes"`
	Reserve int64  `json:"reserve" doc:"Bytes kept for the database"`
	Missing int64  `json:"missing" doc:"Bytes that must become free before checkpoints are kept again; 0: there is room"`
	Says    string `json:"says,omitempty" doc:"What is wrong and what to do"`
}

// The operations on the service itself.
var (
	GetHealth = declare[struct{}, Health](Spec{ID: "health", Method: "GET", Path: "/health",
		Summary: "The process answers", Access: Anyone})
	GetReady = declare[struct{}, Health](Spec{ID: "ready", Method: "GET", Path: "/ready",
		Summary: "Database and blob store answer", Access: Anyone})
)
