package sheet

import _ "embed"

//go:embed new.yaml
var starter []byte

// New returns a commented sheet to start from.
func New() []byte { return append([]byte{}, starter...) }
