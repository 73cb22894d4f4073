// Package contract is generated from api/openapi.yaml: the server's interface,
// the models and the client. Nothing in it is written by hand but this comment.
package contract
