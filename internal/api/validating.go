package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/labstack/echo/v5"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"undersail/internal/refusal"
)

// validated holds every request against the contract: unknown fields, wrong
// types and missing fields get a problem that names the place. What would change something is
// refused while the service is quiet.
func (s *Server) validated(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		route, params, err := s.router.FindRoute(r)
		if err != nil {
			return next(c) // the router of Echo says what is wrong with the path
		}
		if r.Method != http.MethodGet && route.Operation.Extensions["x-quiet"] != true {
			if err := s.service.Stacks.MayChange(); err != nil {
				return err
			}
		}
		body := bodyOf(c)
		err = openapi3filter.ValidateRequest(r.Context(), &openapi3filter.RequestValidationInput{
			Request:    r,
			PathParams: params,
			Route:      route,
			Options: &openapi3filter.Options{
				AuthenticationFunc: openapi3filter.NoopAuthenticationFunc,
				ExcludeRequestBody: true,
			},
		})
		if err != nil {
			return explainInvalid(err)
		}
		if schema := s.bodies[route.Operation]; schema != nil {
			if err := s.unpack(r, len(body), func() error { return valid(schema, body) }); err != nil {
				return err
			}
		}
		if strings.HasPrefix(r.Header.Get("Content-Type"), "application/merge-patch+json") {
			r.Header.Set("Content-Type", "application/json") // it is read as what it is
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		if s.asks[route.Path] {
			r.Header.Del("Idempotency-Key")
		}
		return next(c)
	}
}

// bodies compiles the schema of every body that a request holds, once.
func bodies(doc *openapi3.T) (map[*openapi3.Operation]*jsonschema.Schema, error) {
	out := map[*openapi3.Operation]*jsonschema.Schema{}
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			if op.RequestBody == nil {
				continue
			}
			for _, media := range op.RequestBody.Value.Content {
				raw, err := json.Marshal(media.Schema.Value)
				if err != nil {
					return nil, fmt.Errorf("read contract: %w", err)
				}
				schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
				if err != nil {
					return nil, fmt.Errorf("read contract: %w", err)
				}
				c := jsonschema.NewCompiler()
				if err := c.AddResource("urn:body", schema); err != nil {
					return nil, fmt.Errorf("read contract: %s %s: %w", method, path, err)
				}
				if out[op], err = c.Compile("urn:body"); err != nil {
					return nil, fmt.Errorf("read contract: %s %s: %w", method, path, err)
				}
			}
		}
	}
	return out, nil
}

// valid holds a body against its schema.
func valid(schema *jsonschema.Schema, body []byte) error {
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
	if err != nil {
		return refusedBody("the body", "it cannot be read as JSON")
	}
	if err := schema.Validate(v); err != nil {
		place, what := "the body", err.Error()
		if m := schemaFault.FindStringSubmatch(what); m != nil {
			if what = m[2]; m[1] != "" {
				place = strings.ReplaceAll(strings.TrimPrefix(m[1], "/"), "/", ".")
			}
		}
		return refusedBody(place, what)
	}
	return nil
}

func refusedBody(place, what string) error {
	return &refusal.Error{
		Kind:   refusal.Invalid,
		Title:  place + ": " + strings.TrimSpace(what),
		Remedy: "see /api/openapi.yaml",
	}
}

// explainInvalid says what is wrong with a request without repeating its body.
func explainInvalid(err error) error {
	out := &refusal.Error{
		Kind:   refusal.Invalid,
		Title:  "the request is not what the contract says",
		Remedy: "see /api/openapi.yaml",
	}
	var re *openapi3filter.RequestError
	if !errors.As(err, &re) {
		return out
	}
	place := "the body"
	if re.Parameter != nil {
		place = "parameter " + re.Parameter.Name
	}
	what := re.Reason
	if re.Err != nil {
		what = re.Err.Error()
	}
	if m := schemaFault.FindStringSubmatch(what); m != nil {
		what = m[2]
	}
	out.Title = place + ": " + strings.TrimSpace(what)
	return out
}

// schemaFault is how a schema tells a fault: at '/stack': got number, want string.
var schemaFault = regexp.MustCompile(`at '([^']*)': ([^\n]+)`)
