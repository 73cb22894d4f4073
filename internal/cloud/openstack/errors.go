package openstack

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/gophercloud/gophercloud/v2"

	"undersail/internal/cloud"
)

// problem is what a service says when it refuses. Each kind of service has a shape of its
// own: compute and volumes {"itemNotFound": {"message"}}, where the outer key is the kind;
// network {"NeutronError": {"type", "message"}}; identity {"error": {"title", "message"}};
// images a page of HTML.
type problem struct {
	kind    string
	message string
}

func readProblem(body []byte) problem {
	var shaped map[string]json.RawMessage
	if json.Unmarshal(body, &shaped) != nil {
		return problem{message: strings.Join(strings.Fields(markup.ReplaceAllString(string(body), " ")), " ")}
	}
	for kind, raw := range shaped {
		var p struct {
			Type    string `json:"type"`
			Title   string `json:"title"`
			Message string `json:"message"`
		}
		if json.Unmarshal(raw, &p) == nil && p.Message != "" {
			if p.Type != "" {
				kind = p.Type
			}
			return problem{kind, strings.TrimSpace(p.Message)}
		}
	}
	return problem{}
}

var markup = regexp.MustCompile(`<[^>]*>`)

// classified turns what gophercloud gives into a classified error. A status alone says
// too little: 403 is a quota or a right, 409 a quota, a conflict or a use, 400 a wrong
// value or a wrong moment.
func classified(err error, service, method string) error {
	var answer gophercloud.ErrUnexpectedResponseCode
	if !errors.As(err, &answer) {
		return cloud.Unanswered("the cloud", method, err)
	}
	p := readProblem(answer.Body)
	e := &cloud.Error{Message: p.message}
	if e.Message == "" {
		e.Message = fmt.Sprintf("the cloud answered %d %s", answer.Actual, http.StatusText(answer.Actual))
	}
	if overQuota(p, e) {
		return e
	}
	switch status := answer.Actual; {
	case status == http.StatusUnauthorized:
		e.Class, e.Remedy = cloud.SignIn, "renew the credentials of the account"
	case status == http.StatusNotFound:
		e.Class = cloud.Gone
	case status == http.StatusForbidden:
		e.Class, e.Remedy = cloud.Denied, "give the project's user a role that may: "+permission(p.message)
	case status == http.StatusTooManyRequests,
		status == http.StatusRequestEntityTooLarge && answer.ResponseHeader.Get("Retry-After") != "":
		e.Class, e.RetryAfter = cloud.Throttled, retryAfter(answer.ResponseHeader)
	case status == http.StatusServiceUnavailable:
		e.Class = cloud.Transient
		if answer.ResponseHeader.Get("Retry-After") != "" {
			e.Class, e.RetryAfter = cloud.Throttled, retryAfter(answer.ResponseHeader)
		}
	case status >= http.StatusInternalServerError:
		e.Class = cloud.Transient
		if method != http.MethodGet {
			e.Class = cloud.UnknownOutcome // it may have been carried out before something broke
		}
	case inUse(p):
		e.Class, e.Remedy = cloud.InUse, "remove what uses it first"
	case status == http.StatusPreconditionFailed, status == http.StatusConflict, wrongMoment(p.message):
		e.Class = cloud.Conflict
	case status == http.StatusNotAcceptable:
		e.Class, e.Remedy = cloud.Invalid,
			fmt.Sprintf("the cloud's service %s is too old: it needs version %s", service, microversions[service])
	default:
		e.Class, e.Remedy, e.Property = cloud.Invalid, "correct the inputs and propose again", propertyOf(p.message)
	}
	return e
}

func retryAfter(h http.Header) time.Duration {
	if s, err := strconv.Atoi(h.Get("Retry-After")); err == nil && s > 0 {
		return time.Duration(s) * time.Second
	}
	return time.Second
}

// How services tell of quotas: compute by figures, volumes by figures or a number of
// volumes, network by names alone.
var (
	computeQuota = regexp.MustCompile(`^Quota exceeded for ([\w, ]+): Requested ([\d, ]+), but already used ([\d, ]+) of ([\d, ]+)`)
	volumeQuota  = regexp.MustCompile(`Requested (?:volume or snapshot )?exceeds allowed \w+ quota\. Requested (\d+)G, quota is (\d+)G and (\d+)G`)
	volumeNumber = regexp.MustCompile(`VolumeLimitExceeded: Maximum number of volumes allowed \((\d+)\)`)
	networkQuota = regexp.MustCompile(`^Quota exceeded for resources: \['([\w, ']+)'\]`)
)

// overQuota fills an error in where a quota is the reason: which, and by how many.
func overQuota(p problem, e *cloud.Error) bool {
	what := ""
	if m := computeQuota.FindStringSubmatch(p.message); m != nil {
		names, wanted, used, limits := strings.Split(m[1], ","), numbers(m[2]), numbers(m[3]), numbers(m[4])
		for i := range names {
			if i < len(wanted) && i < len(used) && i < len(limits) && used[i]+wanted[i] > limits[i] {
				what, e.Missing = strings.TrimSpace(names[i]), used[i]+wanted[i]-limits[i]
			}
		}
	} else if m := volumeQuota.FindStringSubmatch(p.message); m != nil {
		figures := numbers(strings.Join(m[1:], ","))
		what, e.Missing = "GiB of volumes", figures[0]+figures[2]-figures[1]
	} else if volumeNumber.MatchString(p.message) {
		what, e.Missing = "volumes", 1
	} else if m := networkQuota.FindStringSubmatch(p.message); m != nil {
		what, e.Missing = strings.ReplaceAll(m[1], "'", ""), 1
	}
	if what == "" {
		return false
	}
	e.Class, e.Remedy = cloud.Quota, fmt.Sprintf("ask for %d more %s, or make the stack smaller", e.Missing, what)
	return true
}

func numbers(list string) []int64 {
	var out []int64
	for _, text := range strings.Split(list, ",") {
		if n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64); err == nil {
			out = append(out, n)
		}
	}
	return out
}

// permission names the rule that forbids something, as the services word it.
func permission(message string) string {
	for _, text := range []*regexp.Regexp{regexp.MustCompile(`Policy doesn't allow (\S+) to be performed`),
		regexp.MustCompile(`\(?\(?(rule:[\w:]+)`)} {
		if m := text.FindStringSubmatch(message); m != nil {
			return m[1]
		}
	}
	return "do this"
}

// inUse reports whether something else still uses what is to go. Network types end so;
// a volume says it in a sentence.
func inUse(p problem) bool {
	return strings.HasSuffix(p.kind, "InUse") || strings.HasSuffix(p.kind, "InUseByFloatingIP") ||
		strings.Contains(p.message, "must not be migrating, attached")
}

// wrongMoment recognises refusals of volumes that come with 400 though nothing is wrong
// but the moment.
func wrongMoment(message string) bool {
	return strings.Contains(message, "Volume status must be") || strings.Contains(message, "status must be available")
}

// propertyOf guesses which neutral property a refusal is about, by what it names.
func propertyOf(message string) string {
	lower := strings.ToLower(message)
	for _, x := range []struct{ word, property string }{
		{"availability zone", "zone"},
		{"flavor", "size"},
		{"image", "image"},
		{"cidr", "range"},
		{"ip_address", "range"},
		{"extend", "size"},
		{"attribute size", "size"},
		{"volume type", "type"},
		{"volume_type", "type"},
		{"port_range", "rules"},
		{"remote_ip_prefix", "rules"},
		{"keypair", "public_key"},
		{"public_key", "public_key"},
		{"user_data", "user_data"},
	} {
		if strings.Contains(lower, x.word) {
			return x.property
		}
	}
	return ""
}

// signIn says why nobody was signed in.
func signIn(err error) error {
	var answer gophercloud.ErrUnexpectedResponseCode
	if errors.As(err, &answer) {
		switch answer.Actual {
		case http.StatusUnauthorized, http.StatusForbidden, http.StatusNotFound:
			return &cloud.Error{
				Class:   cloud.SignIn,
				Message: "the cloud does not accept the account's credentials",
				Remedy:  "renew the credentials of the account",
			}
		}
	}
	return classified(err, identity, http.MethodGet)
}
