// Package contract is the server's side of api/openapi.yaml, generated.
package contract

//go:generate go tool -modfile=../../../tools.mod oapi-codegen -config cfg.yaml ../../../api/openapi.yaml
