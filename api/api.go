// Package api holds the HTTP contract: the OpenAPI document that the service
// serves, that the tests hold it against, and that the console's types are
// generated from.
package api

import (
	_ "embed"
	"encoding/json"
	"sync"

	"go.yaml.in/yaml/v3"
)

//go:embed openapi.yaml
var document []byte

// YAML gives the document as it is written.
func YAML() []byte { return document }

// JSON gives the document as JSON. It panics where the embedded document is
// broken, which the tests of this repository rule out.
var JSON = sync.OnceValue(func() []byte {
	var doc any
	if err := yaml.Unmarshal(document, &doc); err != nil {
		panic("api: openapi.yaml: " + err.Error())
	}
	text, err := json.Marshal(doc)
	if err != nil {
		panic("api: openapi.yaml: " + err.Error())
	}
	return text
})
