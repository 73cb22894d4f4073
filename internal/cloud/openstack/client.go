// Package openstack is the adapter to clouds that run the open-source OpenStack
// platform: identity v3, compute, network, block storage and image, found by the service
// catalogue, region by region. One neutral resource is made of several things there; each
// carries our mark from the call that makes it.
package openstack

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gophercloud/gophercloud/v2"
	platform "github.com/gophercloud/gophercloud/v2/openstack"
	"github.com/gophercloud/gophercloud/v2/openstack/identity/v3/tokens"

	"undersail/internal/cloud"
)

// Adapter is one project of one cloud.
type Adapter struct {
	endpoint string
	creds    Credentials
	http     *http.Client

	mu      sync.Mutex
	session *session
	sold    map[string]*sold // by region
}

// session is what signing in gave.
type session struct {
	provider *gophercloud.ProviderClient
	project  tokens.Project
	user     tokens.User
	roles    []tokens.Role
	catalog  *tokens.ServiceCatalog
	until    time.Time

	mu       sync.Mutex
	services map[string]*gophercloud.ServiceClient // by region and service
}

// New makes an adapter for an identity endpoint such as https://cloud.example/v3. It calls
// nothing.
func New(endpoint string, creds Credentials, client *http.Client) (*Adapter, error) {
	if creds.Authority != "" {
		trusted, err := trusting(client, creds.Authority)
		if err != nil {
			return nil, fmt.Errorf("reading the certificates: %w", err)
		}
		client = trusted
	}
	return &Adapter{endpoint: strings.TrimSuffix(endpoint, "/"), creds: creds, http: client}, nil
}

var _ cloud.Adapter = (*Adapter)(nil)

// trusting gives a client that trusts one more authority.
func trusting(client *http.Client, authority string) (*http.Client, error) {
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM([]byte(authority)) {
		return nil, errors.New("the certificate of the authority is no PEM certificate")
	}
	out := *client
	if t, ok := client.Transport.(cloud.Transport); ok {
		base, _ := t.Base.(*http.Transport)
		if base == nil {
			return nil, errors.New("an own authority cannot be trusted over this transport")
		}
		base = base.Clone()
		if base.TLSClientConfig == nil {
			base.TLSClientConfig = &tls.Config{}
		}
		base.TLSClientConfig.RootCAs = pool
		t.Base = base
		out.Transport = t
	}
	return &out, nil
}

// signedIn gives a session that is good for at least another minute.
func (a *Adapter) signedIn(ctx context.Context) (*session, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.session != nil && time.Until(a.session.until) > time.Minute {
		return a.session, nil
	}
	provider, err := platform.NewClient(a.endpoint)
	if err != nil {
		return nil, &cloud.Error{
			Class:   cloud.Invalid,
			Message: "the endpoint is no URL",
			Remedy:  "give the address of the identity service, such as https://cloud.example:5000/v3",
			Cause:   err,
		}
	}
	provider.HTTPClient = *a.http
	if err := platform.Authenticate(ctx, provider, a.creds.options(a.endpoint)); err != nil {
		return nil, signIn(err)
	}
	result, ok := provider.GetAuthResult().(tokens.CreateResult)
	if !ok {
		return nil, &cloud.Error{
			Class:   cloud.SignIn,
			Message: "the cloud signed nobody in by version 3 of its identity service",
			Remedy:  "give an endpoint that ends with /v3",
		}
	}
	s := &session{provider: provider, services: map[string]*gophercloud.ServiceClient{}}
	token, err := result.ExtractToken()
	if err != nil {
		return nil, cloud.Unanswered("the cloud", http.MethodGet, err)
	}
	s.until = token.ExpiresAt
	if project, err := result.ExtractProject(); err == nil && project != nil {
		s.project = *project
	}
	if user, err := result.ExtractUser(); err == nil && user != nil {
		s.user = *user
	}
	s.roles, _ = result.ExtractRoles()
	if s.catalog, err = result.ExtractServiceCatalog(); err != nil {
		return nil, cloud.Unanswered("the cloud", http.MethodGet, err)
	}
	if s.project.ID == "" {
		return nil, &cloud.Error{
			Class:   cloud.SignIn,
			Message: "the credentials belong to no project",
			Remedy:  "name the project, or use an application credential",
		}
	}
	a.session = s
	return s, nil
}

// forget drops a session that is not accepted any more.
func (a *Adapter) forget(s *session) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.session == s {
		a.session = nil
	}
}

// The services, by the first type under which catalogues list them.
const (
	identity = "identity"
	compute  = "compute"
	network  = "network"
	volume   = "volumev3"
	image    = "image"
)

// The microversions that the work needs. Below the first, a cloud is too old: compute
// 2.52 takes tags in the call that makes a server, volumes 3.42 grow a disk in use.
var microversions = map[string]string{compute: "2.52", volume: "3.42"}

// errNoService is the cause where a region does not have a service at all.
var errNoService = errors.New("no endpoint in the catalogue")

// opener finds the address of a service in a project's catalogue.
type opener func(*gophercloud.ProviderClient, gophercloud.EndpointOpts) (*gophercloud.ServiceClient, error)

var openers = map[string]opener{
	identity: platform.NewIdentityV3,
	compute:  platform.NewComputeV2,
	network:  platform.NewNetworkV2,
	volume:   platform.NewBlockStorageV3,
	image:    platform.NewImageV2,
}

func (s *session) service(region, name string) (*gophercloud.ServiceClient, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := region + "/" + name
	if c := s.services[key]; c != nil {
		return c, nil
	}
	eo := gophercloud.EndpointOpts{Region: region}
	c, err := openers[name](s.provider, eo)
	var missing *gophercloud.ErrEndpointNotFound
	if err != nil && !errors.As(err, &missing) && !errors.As(err, new(gophercloud.ErrEndpointNotFound)) {
		return nil, classified(err, name, http.MethodGet) // finding out its version failed
	}
	if err != nil {
		return nil, &cloud.Error{
			Class:   cloud.Invalid,
			Message: fmt.Sprintf("region %s has no service of type %s in the catalogue of this project", region, name),
			Remedy:  "choose another region, or ask whoever runs the cloud",
			Cause:   errNoService,
		}
	}
	c.Microversion = microversions[name]
	s.services[key] = c
	return c, nil
}

// regions lists those in which the catalogue has compute and network.
func (s *session) regions() []string {
	have := map[string]map[string]bool{}
	for _, entry := range s.catalog.Entries {
		for _, e := range entry.Endpoints {
			if e.Interface != "public" || entry.Type != compute && entry.Type != network {
				continue
			}
			if have[entry.Type] == nil {
				have[entry.Type] = map[string]bool{}
			}
			have[entry.Type][e.Region] = true
		}
	}
	out := []string{}
	for region := range have[compute] {
		if have[network][region] {
			out = append(out, region)
		}
	}
	slices.Sort(out)
	return out
}

// call is one request to a service of a region.
type call struct {
	service, method, path string
	in, out               any
	// revision, when set, is what the thing must still be at (If-Match).
	revision string
	// better is a newer version that tells more, where the cloud has it.
	better string
}

// do makes a call and reads its JSON answer. A session that is refused is replaced once.
func (a *Adapter) do(ctx context.Context, region string, c call) error {
	for again := true; ; again = false {
		s, err := a.signedIn(ctx)
		if err != nil {
			return err
		}
		err = s.once(ctx, region, c)
		if again && cloud.ClassOf(err) == cloud.SignIn {
			a.forget(s)
			continue
		}
		return err
	}
}

// taken are the codes of answers that are no refusals.
var taken = []int{http.StatusOK, http.StatusCreated, http.StatusAccepted, http.StatusNonAuthoritativeInfo,
	http.StatusNoContent, http.StatusMultipleChoices}

func (s *session) once(ctx context.Context, region string, c call) error {
	client, err := s.service(region, c.service)
	if err != nil {
		return err
	}
	options := &gophercloud.RequestOpts{JSONBody: c.in, JSONResponse: c.out, OkCodes: taken}
	if c.revision != "" {
		options.MoreHeaders = map[string]string{"If-Match": "revision_number=" + c.revision}
	}
	asking := *client
	if c.better != "" {
		asking.Microversion = c.better
	}
	res, err := asking.Request(ctx, c.method, asking.ServiceURL(c.path), options)
	code := new(gophercloud.ErrUnexpectedResponseCode)
	if c.better != "" && errors.As(err, code) && code.Actual == http.StatusNotAcceptable {
		c.better = ""
		return s.once(ctx, region, c)
	}
	if err != nil {
		return classified(err, c.service, c.method)
	}
	if c.out == nil {
		res.Body.Close()
	}
	return nil
}

func (a *Adapter) get(ctx context.Context, region, service, path string, out any) error {
	return a.do(ctx, region, call{service: service, method: http.MethodGet, path: path, out: out})
}
