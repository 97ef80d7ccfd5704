package sheet

import _ "embed"

//go:embed new.yaml
var starter []byte

//go:embed sheet.schema.json
var schema []byte

// Schema returns the JSON Schema (draft 2020-12) of build sheets, for editors. It is
// made from the code by make generate. What it takes may still be wrong, for
// reasons that Parse tells.
func Schema() []byte { return append([]byte{}, schema...) }

// New returns a commented sheet to start from.
func New() []byte { return append([]byte{}, starter...) }
