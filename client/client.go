// Package client talks to an Insegna service. Types and calls are generated
// from api/openapi.yaml.
package client

import "github.com/oapi-codegen/runtime/types"

//go:generate go tool -modfile=../tools.mod oapi-codegen -config cfg.yaml ../api/openapi.yaml

// Date is a day as calls take it.
type Date = types.Date
