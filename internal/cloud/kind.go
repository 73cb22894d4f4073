package cloud

// Kind is what somebody has to know of a cloud to add an account of it: its adapter tells it, and
// command line, API and console draw it.
type Kind struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	// Endpoint is the URL at which the cloud is reached.
	Endpoint CredentialField `json:"endpoint"`
	// Credentials are the fields that are asked for; others that the cloud takes may be given
	// by their names.
	Credentials []CredentialField `json:"credentials"`
	// Files says in what form the trade keeps endpoint and credentials, where the command line
	// reads it.
	Files string `json:"files,omitempty"`
}

// CredentialField is one thing that is asked for.
type CredentialField struct {
	Name   string `json:"name"`
	Label  string `json:"label"`
	Note   string `json:"note,omitempty"`
	Secret bool   `json:"secret,omitempty"`
}

// Source is where the endpoint and credentials of an account stand in a form that the
// trade has: an entry of a file, or the environment.
type Source struct {
	File, Entry string
	Environment func(string) string
}
