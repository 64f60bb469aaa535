// Package api holds the service's contract, openapi.yaml, and what is generated from it: the server interface, the
// Go client and their shared types. The console's TypeScript types are generated from the same document.
package api

//go:generate go tool oapi-codegen -config codegen.yaml -o api.gen.go openapi.yaml
