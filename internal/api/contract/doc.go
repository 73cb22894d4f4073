// Package contract is generated from api/openapi.yaml: the server's interface,
// the models and the client. Nothing in it is written by hand but this comment.
package contract

//go:generate go tool oapi-codegen -config ../../../api/server.yaml ../../../api/openapi.yaml
//go:generate go tool oapi-codegen -config ../../../api/client.yaml ../../../api/openapi.yaml
