package job

import _ "embed"

// Schema is the JSON Schema of job documents, for editors. It takes what is built today; a test keeps
// its names and the reader's together.
//
//go:embed job.schema.json
var Schema []byte
