package server

import (
	_ "embed"
	"net/http"
)

//go:embed openapi.json
var openAPI []byte

// openAPI answers with the description of the calls in OpenAPI 3.1.
func (c *call) openAPI() error {
	if _, err := c.query(); err != nil {
		return err
	}
	c.w.Header().Set("Content-Type", "application/json")
	c.w.WriteHeader(http.StatusOK)
	_, _ = c.w.Write(openAPI)
	return nil
}
