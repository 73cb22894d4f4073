// Package registry lists the clouds that there are. It is the only place that
// knows all adapters; everything above it opens a cloud by its name.
package registry

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"undersail/internal/cloud"
	"undersail/internal/cloud/larch"
)

// Opener makes the adapter of an account. Credentials are the fields that the
// cloud asks for, by name.
type Opener struct {
	Fields []string
	Open   func(endpoint string, credentials map[string]string, client *http.Client) cloud.Adapter
}

var clouds = map[string]Opener{
	"larch": {[]string{"client_id", "client_secret"}, func(endpoint string, c map[string]string, client *http.Client) cloud.Adapter {
		return larch.New(endpoint, larch.Credentials{ClientID: c["client_id"], ClientSecret: c["client_secret"]}, client)
	}},
}

// Names lists the clouds.
func Names() []string { return slices.Sorted(maps.Keys(clouds)) }

// Open makes the adapter of an account. It calls nothing. The error says which
// clouds there are, or which credentials are missing.
func Open(name, endpoint string, credentials map[string]string, client *http.Client) (cloud.Adapter, error) {
	o, ok := clouds[name]
	if !ok {
		return nil, fmt.Errorf("there is no cloud %q; the clouds are: %s", name, strings.Join(Names(), ", "))
	}
	for _, f := range o.Fields {
		if credentials[f] == "" {
			return nil, fmt.Errorf("credentials of %s need %s", name, strings.Join(o.Fields, ", "))
		}
	}
	return o.Open(endpoint, credentials, client), nil
}
