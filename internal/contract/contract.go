// Package contract is generated from api/openapi.yaml: the types of the API, its strict server interface, and its
// client. Run make generate after a change of the YAML.
package contract
