// Package client talks to an Insegna service. Types and calls are generated
// from api/openapi.yaml.
package client

//go:generate go tool -modfile=../tools.mod oapi-codegen -config cfg.yaml ../api/openapi.yaml
