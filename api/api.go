// Package api holds the contract of the service's HTTP interface. The Go code of
// internal/api and internal/client and the types of web/ are generated from it. Beside it is what
// a cloud site asks of a provider, from which package provider is generated.
package api

import _ "embed"

//go:generate go tool oapi-codegen -config server.yaml openapi.yaml
//go:generate go tool oapi-codegen -config client.yaml openapi.yaml
//go:generate go tool oapi-codegen -config provider-go.yaml provider.yaml

// Version is that of the contract: clients and services of another one do not fit.
const Version = "1"

// Document is the OpenAPI document as served at /api/openapi.yaml.
//
//go:embed openapi.yaml
var Document []byte

// DefinitionSchema is the JSON Schema of what a definition may say under
// customizations.domicile, so that editors complete it.
//
//go:embed definition.schema.json
var DefinitionSchema []byte
