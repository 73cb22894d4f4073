// Package registry lists the clouds that there are. It is the only place that
// knows all adapters; everything above it opens a cloud by its name.
package registry

import (
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"undersail/internal/cloud"
	"undersail/internal/cloud/larch"
	"undersail/internal/cloud/openstack"
)

// Opener makes the adapter of an account. Credentials are the fields that the cloud asks
// for, by name; the error says which are missing.
type Opener func(endpoint string, credentials map[string]string, client *http.Client) (cloud.Adapter, error)

var clouds = map[string]Opener{
	"larch": func(endpoint string, c map[string]string, client *http.Client) (cloud.Adapter, error) {
		if c["client_id"] == "" || c["client_secret"] == "" {
			return nil, errors.New("credentials of larch need client_id and client_secret")
		}
		return larch.New(endpoint, larch.Credentials{ClientID: c["client_id"], ClientSecret: c["client_secret"]}, client), nil
	},
	"openstack": func(endpoint string, c map[string]string, client *http.Client) (cloud.Adapter, error) {
		credentials, err := openstack.FromMap(c)
		if err != nil {
			return nil, err
		}
		return openstack.New(endpoint, credentials, client)
	},
}

// Names lists the clouds.
func Names() []string { return slices.Sorted(maps.Keys(clouds)) }

// Open makes the adapter of an account. It calls nothing. The error says which
// clouds there are, or which credentials are missing.
func Open(name, endpoint string, credentials map[string]string, client *http.Client) (cloud.Adapter, error) {
	open, ok := clouds[name]
	if !ok {
		return nil, fmt.Errorf("there is no cloud %q; the clouds are: %s", name, strings.Join(Names(), ", "))
	}
	return open(endpoint, credentials, client)
}

// Source is where the endpoint and credentials of an account stand in a form that the
// trade has: an entry of a file, or the environment.
type Source struct {
	File, Entry string
	Environment func(string) string
}

// Read takes endpoint and credentials from a source. Only clouds that have such forms do.
func Read(name string, from Source) (endpoint string, credentials map[string]string, err error) {
	if name != "openstack" {
		return "", nil, fmt.Errorf("credentials of %s stand in no file that is read here; give them with --client-id", name)
	}
	var c openstack.Credentials
	if from.File != "" {
		endpoint, c, err = openstack.FromCloudsFile(from.File, from.Entry)
	} else {
		endpoint, c, err = openstack.FromEnvironment(from.Environment)
	}
	return endpoint, c.Map(), err
}
