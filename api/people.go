package api

import "time"

// Me is who asks.
type Me struct {
	SignedIn bool   `json:"signed_in"`
	Name     string `json:"name"` // empty on this machine, where nobody has to sign in
	Role     string `json:"role"` // reader, engineer, keeper; empty for nobody
	Means    string `json:"means"`
	// Asks: somebody has to say who they are.
	Asks bool `json:"asks"`
	// SingleSignOn names what people may sign in by beside a password; empty for nothing.
	SingleSignOn string `json:"single_sign_on"`
	// Keepers are whom to ask for what one may not do; known to who is signed in.
	Keepers []string `json:"keepers"`
}

// SignIn is a name and a password.
type SignIn struct {
	Name     string `json:"name"`
	Password string `json:"password"`
}

// NewPassword asks for another password.
type NewPassword struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// Code lets somebody in once.
type Code struct {
	Code string `json:"code"`
}

// CodeFor is whom a code lets in.
type CodeFor struct {
	Name  string `json:"name"`  // empty for the first keeper, who says it
	First bool   `json:"first"` // it makes the first keeper
	Role  string `json:"role"`
}

// Enter uses a code.
type Enter struct {
	Code     string `json:"code"`
	Name     string `json:"name,omitempty"` // of the first keeper
	Password string `json:"password"`
}

// Person is somebody who may sign in, or for whom there are tokens.
type Person struct {
	Name   string     `json:"name"`
	Role   string     `json:"role"`
	Email  string     `json:"email"` // by which single sign-on knows them; empty: it does not
	MadeAt time.Time  `json:"made_at"`
	SeenAt *time.Time `json:"seen_at"` // about; null: never
	// Waits: they have chosen no password yet, and single sign-on does not know them.
	Waits bool     `json:"waits"`
	Owns  []string `json:"owns"` // jobs that name them as owners
}

// NewPerson asks for somebody to be added.
type NewPerson struct {
	Name  string `json:"name"`
	Role  string `json:"role,omitempty"` // reader where it is left out
	Email string `json:"email,omitempty"`
}

// ChangedPerson says what changes of somebody; what is left out stays.
type ChangedPerson struct {
	Role  *string `json:"role,omitempty"`
	Email *string `json:"email,omitempty"`
}

// MadePerson is somebody with the code that lets them in, which is given out this once.
type MadePerson struct {
	Person Person    `json:"person"`
	Code   string    `json:"code"`
	Path   string    `json:"path"` // of the console, with the code behind the hash: no server and no log sees it
	EndsAt time.Time `json:"ends_at"`
}

// PersonToken lets a program do what a person may, or less.
type PersonToken struct {
	Name   string     `json:"name"`
	Person string     `json:"person"`
	Role   string     `json:"role"`
	Job    string     `json:"job"` // empty: of all
	MadeAt time.Time  `json:"made_at"`
	EndsAt *time.Time `json:"ends_at"` // null: never
	UsedAt *time.Time `json:"used_at"` // about; null: never
}

// NewPersonToken asks for a token.
type NewPersonToken struct {
	Name   string `json:"name"`
	Person string `json:"person,omitempty"` // one's own where it is left out; a keeper may name others
	Role   string `json:"role,omitempty"`   // the person's where it is left out
	Job    string `json:"job,omitempty"`
	For    string `json:"for,omitempty"` // a duration such as 90d; without it it does not end
}

// MadePersonToken is a token with its text, which is given out this once.
type MadePersonToken struct {
	Token PersonToken `json:"token"`
	Text  string      `json:"text"`
}

// Owners are who may change a job, beside keepers.
type Owners struct {
	Owners []string `json:"owners"`
}

// Rotated says how many secrets were sealed anew.
type Rotated struct {
	Secrets int `json:"secrets"`
}

// TrailLine tells that somebody did something, or was not let.
type TrailLine struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	Who     string    `json:"who"`
	Means   string    `json:"means"`
	Address string    `json:"address"`
	Action  string    `json:"action"`
	Target  string    `json:"target"`
	Version int       `json:"version"` // of the job; 0 for none
	Outcome string    `json:"outcome"` // done, or the code of the problem
	Request string    `json:"request"`
}
