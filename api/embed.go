// Package api holds the contract of the service: one OpenAPI document from which
// the server, the Go client and the console's types are generated.
package api

//go:generate go tool -modfile=../tools/go.mod oapi-codegen -config server.yaml openapi.yaml
//go:generate go tool -modfile=../tools/go.mod oapi-codegen -config client.yaml openapi.yaml

import _ "embed"

// OpenAPI is the contract.
//
//go:embed openapi.yaml
var OpenAPI []byte
