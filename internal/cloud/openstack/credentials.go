package openstack

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"
	"undersail/internal/cloud"

	"github.com/gophercloud/gophercloud/v2"
	"github.com/gophercloud/gophercloud/v2/openstack/config/clouds"
	"go.yaml.in/yaml/v4"
)

// Kind is what is to be known of an OpenStack cloud to add an account: of its many ways to sign in
// the one that is asked for. The others are given by the names of their fields.
var Kind = cloud.Kind{Name: "openstack", Title: "OpenStack",
	Endpoint: cloud.CredentialField{
		Name:  "endpoint",
		Label: "Identity service",
		Note:  "such as https://cloud.example:5000/v3",
	},
	Credentials: []cloud.CredentialField{
		{Name: "application_credential_id", Label: "Id of an application credential"},
		{Name: "application_credential_secret", Label: "Its secret", Secret: true},
	},
	Files: "a clouds.yaml, or OS_AUTH_URL and so on in the environment",
}

// Open makes an adapter with credentials by their names. It calls nothing; the error says what is
// missing.
func Open(endpoint string, fields map[string]string, client *http.Client) (cloud.Adapter, error) {
	c, err := FromMap(fields)
	if err != nil {
		return nil, err
	}
	return New(endpoint, c, client)
}

// Read takes endpoint and credentials from an entry of a clouds.yaml, or from the environment.
func Read(from cloud.Source) (endpoint string, fields map[string]string, err error) {
	var c Credentials
	if from.File != "" {
		endpoint, c, err = FromCloudsFile(from.File, from.Entry)
	} else {
		endpoint, c, err = FromEnvironment(from.Environment)
	}
	return endpoint, c.Map(), err
}

// Credentials sign in to a project: an application credential by its id, or by its name
// and user; or a user with a password. The fields are called as in clouds.yaml.
type Credentials struct {
	ApplicationID     string `json:"application_credential_id,omitempty"`
	ApplicationName   string `json:"application_credential_name,omitempty"`
	ApplicationSecret string `json:"application_credential_secret,omitempty"`
	UserID            string `json:"user_id,omitempty"`
	User              string `json:"username,omitempty"`
	UserDomainID      string `json:"user_domain_id,omitempty"`
	UserDomain        string `json:"user_domain_name,omitempty"`
	Password          string `json:"password,omitempty"`
	ProjectID         string `json:"project_id,omitempty"`
	Project           string `json:"project_name,omitempty"`
	ProjectDomainID   string `json:"project_domain_id,omitempty"`
	ProjectDomain     string `json:"project_domain_name,omitempty"`
	// Authority is a certificate (PEM) that the cloud's own certificates are signed with.
	Authority string `json:"cacert,omitempty"`
}

// FromMap reads credentials by the names of their fields. The error says what is missing.
func FromMap(fields map[string]string) (Credentials, error) {
	var c Credentials
	raw, err := json.Marshal(fields)
	if err == nil {
		err = json.Unmarshal(raw, &c)
	}
	if err != nil {
		return c, fmt.Errorf("credentials of openstack cannot be read: %w", err)
	}
	switch {
	case c.ApplicationSecret != "" && (c.ApplicationID != "" || c.ApplicationName != "" && c.User+c.UserID != ""):
	case c.ApplicationSecret != "":
		return c, errors.New("credentials of openstack have application_credential_secret, and lack " +
			"application_credential_id")
	case c.Password != "" && c.User+c.UserID != "" && c.Project+c.ProjectID != "":
	default:
		return c, errors.New("credentials of openstack need application_credential_id and " +
			"application_credential_secret, or username, password and project_name")
	}
	return c, nil
}

// Map gives credentials by the names of their fields, without those that are empty.
func (c Credentials) Map() map[string]string {
	out := map[string]string{}
	raw, _ := json.Marshal(c)
	_ = json.Unmarshal(raw, &out) // fields that are texts are read back as they are
	return out
}

func (c Credentials) options(endpoint string) gophercloud.AuthOptions {
	o := gophercloud.AuthOptions{IdentityEndpoint: endpoint}
	byName := func() {
		if o.UserID = c.UserID; o.UserID != "" {
			return
		}
		o.Username, o.DomainID = c.User, c.UserDomainID
		if o.DomainID == "" {
			o.DomainName = domain(c.UserDomain)
		}
	}
	if c.ApplicationSecret != "" {
		o.ApplicationCredentialID, o.ApplicationCredentialName, o.ApplicationCredentialSecret = c.ApplicationID,
			c.ApplicationName, c.ApplicationSecret
		if c.ApplicationID == "" {
			byName()
		}
		return o
	}
	byName()
	o.Password = c.Password
	o.Scope = &gophercloud.AuthScope{ProjectID: c.ProjectID}
	if c.ProjectID == "" {
		o.Scope.ProjectName, o.Scope.DomainID = c.Project, c.ProjectDomainID
		if c.ProjectDomainID == "" {
			o.Scope.DomainName = domain(c.ProjectDomain)
		}
	}
	return o
}

// domain is that which every cloud has when nobody names one.
func domain(name string) string {
	if name == "" {
		return "Default"
	}
	return name
}

// FromCloudsFile reads an entry of a clouds.yaml, with what secure.yaml beside it says.
func FromCloudsFile(file, entry string) (endpoint string, c Credentials, err error) {
	o, _, _, err := clouds.Parse(clouds.WithLocations(file), clouds.WithCloudName(entry))
	if err != nil {
		return "", c, fmt.Errorf("read %s: %w", file, err)
	}
	c = Credentials{
		ApplicationID:     o.ApplicationCredentialID,
		ApplicationName:   o.ApplicationCredentialName,
		ApplicationSecret: o.ApplicationCredentialSecret,
		UserID:            o.UserID,
		User:              o.Username,
		UserDomainID:      o.DomainID,
		UserDomain:        o.DomainName,
		Password:          o.Password,
		ProjectID:         o.TenantID,
		Project:           o.TenantName,
	}
	if o.Scope != nil {
		c.ProjectDomainID, c.ProjectDomain = o.Scope.DomainID, o.Scope.DomainName
	}
	var list struct {
		Clouds map[string]struct {
			Authority string `yaml:"cacert"`
		} `yaml:"clouds"`
	}
	raw, err := os.ReadFile(file)
	if err == nil {
		err = yaml.Unmarshal(raw, &list)
	}
	if err != nil {
		return "", c, fmt.Errorf("read %s: %w", file, err)
	}
	c.Authority, err = certificate(list.Clouds[entry].Authority) // from where one stands, as everybody reads it
	return o.IdentityEndpoint, c, err
}

// FromEnvironment reads the usual variables, OS_AUTH_URL and so on.
func FromEnvironment(getenv func(string) string) (endpoint string, c Credentials, err error) {
	fields := map[string]string{}
	for name := range (Credentials{
		ApplicationID:     "x",
		ApplicationName:   "x",
		ApplicationSecret: "x",
		UserID:            "x",
		User:              "x",
		UserDomainID:      "x",
		UserDomain:        "x",
		Password:          "x",
		ProjectID:         "x",
		Project:           "x",
		ProjectDomainID:   "x",
		ProjectDomain:     "x",
		Authority:         "x",
	}).Map() {
		if v := getenv("OS_" + strings.ToUpper(name)); v != "" {
			fields[name] = v
		}
	}
	if fields["cacert"], err = certificate(fields["cacert"]); err != nil {
		return "", c, err
	}
	if endpoint = getenv("OS_AUTH_URL"); endpoint == "" {
		return "", c, errors.New("OS_AUTH_URL is not set: source the file with the variables of the project first")
	}
	c, err = FromMap(fields)
	return endpoint, c, err
}

func certificate(file string) (string, error) {
	if file == "" {
		return "", nil
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("read the certificate of the authority: %w", err)
	}
	return string(raw), nil
}
