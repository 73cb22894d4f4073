package health

import (
	"maps"
	"slices"

	"undersail/internal/core/resource"
)

func str(choices ...string) resource.Shape {
	return resource.Shape{Kind: resource.String, Choices: choices}
}

var port = resource.Shape{Kind: resource.Integer, Minimum: 1, Maximum: 65535}

var through = resource.Property{Name: "through", About: "A jump host: the only way in.", Shape: resource.Jump}

// keep names what of an answer stands in the evidence. A machine that was given
// something made of a secret is kept nothing of otherwise.
var keep = resource.Property{
	Name: "keep",
	About: "Pattern (RE2) of what of the answer is kept as evidence; all of it when left out, and nothing of a " +
		"machine that was given a secret.",
	Shape: str(),
}

var mapOfText = resource.Shape{Kind: resource.Map, Items: &resource.Shape{Kind: resource.String}}

// signIn begins a session by a form before the page is asked.
var signIn = resource.Property{
	Name:  "sign_in",
	About: "A form that begins a session first; its cookies go with what is asked.",
	Shape: resource.Shape{
		Kind: resource.Object, TypeName: "sign_in", Fields: []resource.Property{
			{Name: "url", About: "Where the form is sent.", Shape: str(), Required: true},
			{Name: "form", About: "Its fields, such as user and password.", Shape: mapOfText, Required: true},
		}},
}

func check(name string, fields []resource.Property) resource.Shape {
	return resource.Shape{Kind: resource.Object, TypeName: name, Fields: fields}
}

// The ports that are asked where a check, a task or a jump host names none.
const (
	SSHPort      int64 = 22
	DatabasePort int64 = 5432
)

// Kind is a way of asking whether something is healthy.
type Kind struct {
	// Shape is what a template says of such a check.
	Shape resource.Shape
	// Port is the one that is asked where a check names none; 0 where it has to.
	Port int64
	// Goes says in words where a check goes, and what shows that it is there.
	Goes func(spec map[string]any) string
}

// KindNames lists the kinds of probes in their order.
var KindNames = slices.Sorted(maps.Keys(Kinds))

// Kinds are the probes a template may ask for. Who looks at one is in probe.
var Kinds = map[string]Kind{
	"tcp": {Goes: connection, Shape: check("tcp_check", []resource.Property{
		{Name: "host", About: "Address to connect to.", Shape: str(), Required: true},
		{Name: "port", About: "Port to connect to.", Shape: port, Required: true},
		through,
	})},
	"http": {Goes: page, Shape: check("http_check", []resource.Property{
		{Name: "url", About: "Full URL, http or https.", Shape: str(), Required: true},
		{
			Name:  "method",
			About: "How it is asked; GET when left out.",
			Shape: str("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"),
		},
		{Name: "body", About: "What is sent with it.", Shape: str()},
		{Name: "headers", About: "Headers that are sent with it.", Shape: mapOfText},
		{Name: "user", About: "Who asks, by basic authentication (RFC 7617).", Shape: str()},
		{Name: "password", About: "The password of the user; a secret.", Shape: str()},
		signIn,
		{
			Name:  "status",
			About: "Expected status; 200 when left out.",
			Shape: resource.Shape{Kind: resource.Integer, Minimum: 100, Maximum: 599},
		},
		{Name: "contains", About: "Text that the body must contain.", Shape: str()},
		{Name: "trust", About: "system (default) or any certificate.", Shape: str("system", "any")},
		keep,
		through,
	})},
	"ssh": {Port: SSHPort, Goes: login, Shape: check("ssh_check", []resource.Property{
		{Name: "host", About: "Address to log in to.", Shape: str(), Required: true},
		{Name: "port", About: "SSH port; 22 when left out.", Shape: port},
		{Name: "user", About: "User to log in as.", Shape: str(), Required: true},
		{Name: "key", About: "Private key, such as access.private_key.", Shape: str()},
		{Name: "password", About: "Password to log in with, instead of a key; a secret.", Shape: str()},
		{Name: "host_key", About: "The key the host must show.", Shape: str()},
		{Name: "command", About: "Command to run.", Shape: str(), Required: true},
		{Name: "answer", About: "Text that the output must contain.", Shape: str(), Required: true},
		keep,
		through,
	})},
	"tells": {Goes: cloudItself, Shape: check("tells_check", []resource.Property{
		{Name: "attribute", About: "Reported attribute that is looked at.", Shape: str(), Required: true},
		{
			Name:  "is",
			About: "What it must be, or, of a mapping or list, hold.",
			Shape: resource.Shape{Kind: resource.Open},
		},
		{Name: "least", About: "The least that a number must be.", Shape: resource.Shape{Kind: resource.Number}},
	})},
	"database": {Port: DatabasePort, Goes: database, Shape: check("database_check", []resource.Property{
		{
			Name:     "host",
			About:    "Address of the database; it speaks the protocol of PostgreSQL.",
			Shape:    str(),
			Required: true,
		},
		{Name: "port", About: "Its port; 5432 when left out.", Shape: port},
		{Name: "name", About: "Name of the database.", Shape: str(), Required: true},
		{Name: "user", About: "User to sign in as.", Shape: str(), Required: true},
		{Name: "password", About: "The password of the user; a secret.", Shape: str(), Required: true},
		{Name: "query", About: "What is asked; select 1 when left out.", Shape: str()},
		{
			Name:  "answer",
			About: "Text that the first field of the first row must contain; any row will do when left out.",
			Shape: str(),
		},
		{
			Name:  "trust",
			About: "Without encryption (none, the default), by any certificate, or by one that the system trusts.",
			Shape: str("none", "any", "system"),
		},
		keep,
		through,
	})},
	"name": {Goes: nameServer, Shape: check("name_check", []resource.Property{
		{Name: "name", About: "Full name that is asked for.", Shape: str(), Required: true},
		{
			Name:     "server",
			About:    "Name server that is asked, as an address or address:port.",
			Shape:    str(),
			Required: true,
		},
		{Name: "kind", About: "Kind of record; A when left out.", Shape: str("A", "AAAA", "CNAME", "TXT", "MX", "NS")},
		{
			Name:  "values",
			About: "What the answer must hold; any record will do when left out.",
			Shape: resource.Shape{Kind: resource.List, Items: &resource.Shape{Kind: resource.String}},
		},
		through,
	})},
}
