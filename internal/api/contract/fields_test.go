package contract_test

import (
	"encoding"
	"encoding/json"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"undersail/api"
	"undersail/internal/api/contract"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
)

// TestTheContractIsWhatIsAnswered holds every schema against the Go type behind it, both ways:
// a field that is answered and not told is one that no client has, and one that is told and not
// answered is a promise that nobody keeps.
func TestTheContractIsWhatIsAnswered(t *testing.T) {
	t.Parallel()
	doc, err := openapi3.NewLoader().LoadFromData(api.OpenAPI)
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for name, ref := range doc.Components.Schemas {
		if ref.Value.Extensions["x-go-type"] == nil {
			continue // its Go type is made of it
		}
		behind, known := types[name]
		if !known {
			t.Errorf("schema %s has a Go type of its own: add it to the table below", name)
			continue
		}
		seen++
		h := holder{t: t, doc: doc}
		h.object(name, ref.Value, reflect.TypeOf(behind))
	}
	if seen != len(types) {
		t.Errorf("%d schemas were held against their types, and the table has %d", seen, len(types))
	}
}

// holder holds schemas against types.
type holder struct {
	t   *testing.T
	doc *openapi3.T
}

var marshals, writes = reflect.TypeFor[json.Marshaler](), reflect.TypeFor[encoding.TextMarshaler]()

// object holds the properties of a schema against the fields that a type is written with.
func (h holder) object(at string, s *openapi3.Schema, of reflect.Type) {
	h.t.Helper()
	fields := fieldsOf(of)
	for name, f := range fields {
		p, told := s.Properties[name]
		if !told {
			h.t.Errorf("%s: %s has %s, which the contract does not tell", at, of, name)
			continue
		}
		asked := s.AdditionalProperties.Has != nil && !*s.AdditionalProperties.Has // what is asked may be left out
		if required := slices.Contains(s.Required, name); !asked && required == f.optional {
			h.t.Errorf("%s.%s: the contract says that it is always there: %v, and %s may leave it out: %v", at, name,
				required, of, f.optional)
		}
		h.value(at+"."+name, p, f.is)
	}
	for name := range s.Properties {
		if _, has := fields[name]; !has {
			h.t.Errorf("%s: the contract tells %s, which %s does not have", at, name, of)
		}
	}
}

// value holds a schema against the type of a field.
func (h holder) value(at string, ref *openapi3.SchemaRef, of reflect.Type) {
	h.t.Helper()
	for of.Kind() == reflect.Pointer {
		of = of.Elem()
	}
	s := ref.Value
	if name, isRef := strings.CutPrefix(ref.Ref, "#/components/schemas/"); isRef && types[name] != nil {
		if want := reflect.TypeOf(types[name]); of != want {
			h.t.Errorf("%s: it is told as %s, which is %s, and is %s", at, name, want, of)
		}
		return
	}
	if s.Type == nil || of.Kind() == reflect.Interface ||
		of.Implements(marshals) && of != reflect.TypeFor[time.Time]() {
		return // anything, or what writes itself
	}
	switch {
	case s.Type.Is("array"):
		if of.Kind() != reflect.Slice && of.Kind() != reflect.Array {
			h.t.Errorf("%s: it is told as a list, and is %s", at, of)
			return
		}
		h.value(at+"[]", s.Items, of.Elem())
	case s.Type.Is("object") && len(s.Properties) > 0:
		if of.Kind() != reflect.Struct {
			h.t.Errorf("%s: it is told as an object, and is %s", at, of)
			return
		}
		h.object(at, s, of)
	case s.Type.Is("object"):
		if of.Kind() != reflect.Map && !opaque[of] {
			h.t.Errorf("%s: it is told as a mapping, and is %s", at, of)
			return
		}
		if of.Kind() == reflect.Map && s.AdditionalProperties.Schema != nil {
			h.value(at+"{}", s.AdditionalProperties.Schema, of.Elem())
		}
	case !slices.Contains(kindsOf[s.Type.Slice()[0]], of.Kind()) &&
		(of != reflect.TypeFor[time.Time]() || s.Format != "date-time") &&
		(of != reflect.TypeFor[[]byte]() || s.Format != "byte") && !of.Implements(writes):
		h.t.Errorf("%s: it is told as %s, and is %s", at, s.Type.Slice()[0], of)
	}
}

// opaque are what the contract tells nothing of but that it is there: how the market of a cloud
// is read, and what holds its like: shapes, and parts of parts of templates.
var opaque = map[reflect.Type]bool{
	reflect.TypeFor[resource.Shape](): true,
	reflect.TypeFor[lang.Bundle]():    true,
	reflect.TypeFor[resource.Draw]():  true,
	reflect.TypeFor[resource.Price](): true,
	reflect.TypeFor[resource.Proof](): true,
}

var kindsOf = map[string][]reflect.Kind{
	"string":  {reflect.String},
	"boolean": {reflect.Bool},
	"integer": {reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint, reflect.Uint8,
		reflect.Uint16, reflect.Uint32, reflect.Uint64},
	"number": {reflect.Float32, reflect.Float64, reflect.Int, reflect.Int64},
}

type field struct {
	is       reflect.Type
	optional bool
}

// fieldsOf are the fields that encoding/json writes of a type, by their names.
func fieldsOf(of reflect.Type) map[string]field {
	out := map[string]field{}
	for i := range of.NumField() {
		f := of.Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous && name == "" {
			for inner, x := range fieldsOf(f.Type) {
				if _, shadowed := out[inner]; !shadowed {
					out[inner] = x
				}
			}
			continue
		}
		if !f.IsExported() || name == "-" {
			continue
		}
		if name == "" {
			name = f.Name
		}
		out[name] = field{f.Type, strings.Contains(options, "omit")}
	}
	return out
}

// types are the Go types behind the schemas that name one.
var types = map[string]any{
	"Account":          contract.Account{},
	"AccountBounds":    contract.AccountBounds{},
	"AccountDetail":    contract.AccountDetail{},
	"AccountIdentity":  contract.AccountIdentity{},
	"AccountStack":     contract.AccountStack{},
	"AddressMap":       contract.AddressMap{},
	"AddressPicture":   contract.AddressPicture{},
	"AddressPiece":     contract.AddressPiece{},
	"Addresses":        contract.Addresses{},
	"After":            contract.After{},
	"Agreement":        contract.Agreement{},
	"Answer":           contract.Answer{},
	"Area":             contract.Area{},
	"AuditCheck":       contract.AuditCheck{},
	"AuditEntry":       contract.AuditEntry{},
	"Awaited":          contract.Awaited{},
	"CaseRun":          contract.CaseRun{},
	"CaseRuns":         contract.CaseRuns{},
	"Change":           contract.Change{},
	"CloudKind":        contract.CloudKind{},
	"CredentialField":  contract.CredentialField{},
	"ClosedAccount":    contract.ClosedAccount{},
	"Compared":         contract.Compared{},
	"Comparison":       contract.Comparison{},
	"Compliance":       contract.Compliance{},
	"Connection":       contract.Connection{},
	"Consent":          contract.Consent{},
	"Cost":             contract.Cost{},
	"Diagnostic":       contract.Diagnostic{},
	"Difference":       contract.Difference{},
	"DiskType":         contract.DiskType{},
	"Disks":            contract.Disks{},
	"Draft":            contract.Draft{},
	"DraftSecret":      contract.DraftSecret{},
	"Event":            contract.Event{},
	"Evidence":         contract.Evidence{},
	"Field":            contract.Field{},
	"Finding":          contract.Finding{},
	"FitAnswer":        contract.FitAnswer{},
	"FormField":        contract.FormField{},
	"FormPage":         contract.FormPage{},
	"Found":            contract.Found{},
	"GivenConsent":     contract.GivenConsent{},
	"GraphNode":        contract.GraphNode{},
	"Guide":            contract.Guide{},
	"Hop":              contract.Hop{},
	"Image":            contract.Image{},
	"InputValue":       contract.InputValue{},
	"Invitation":       contract.Invitation{},
	"Kept":             contract.Kept{},
	"Language":         contract.Language{},
	"Need":             contract.Need{},
	"ResourceType":     contract.ResourceType{},
	"TypeAttribute":    contract.TypeAttribute{},
	"TypeProperty":     contract.TypeProperty{},
	"Library":          contract.Library{},
	"LibraryTemplate":  contract.LibraryTemplate{},
	"Line":             contract.Line{},
	"MadeToken":        contract.MadeToken{},
	"NamedSecret":      contract.NamedSecret{},
	"Network":          contract.Network{},
	"NewAccount":       contract.NewAccount{},
	"NewConnection":    contract.NewConnection{},
	"NewLibrary":       contract.NewLibrary{},
	"NewPerson":        contract.NewPerson{},
	"NewPolicy":        contract.NewPolicy{},
	"NewProposal":      contract.NewProposal{},
	"NewSecret":        contract.NewSecret{},
	"NewToken":         contract.NewToken{},
	"Offers":           contract.Offers{},
	"Option":           contract.Option{},
	"Output":           contract.Output{},
	"Overtaking":       contract.Overtaking{},
	"Person":           contract.Person{},
	"PersonChange":     contract.PersonChange{},
	"Policy":           contract.Policy{},
	"PresetCard":       contract.PresetCard{},
	"Proposal":         contract.Proposal{},
	"Question":         contract.Question{},
	"Quiet":            contract.Quiet{},
	"Quota":            contract.Quota{},
	"QuotaLine":        contract.QuotaLine{},
	"Range":            contract.Range{},
	"Reason":           contract.Reason{},
	"Resource":         contract.Resource{},
	"RevealRequest":    contract.RevealRequest{},
	"Revealed":         contract.Revealed{},
	"Run":              contract.Run{},
	"Search":           contract.Search{},
	"SecretUse":        contract.SecretUse{},
	"Signature":        contract.Signature{},
	"Size":             contract.Size{},
	"Spending":         contract.Spending{},
	"Stack":            contract.Stack{},
	"Starter":          contract.Starter{},
	"Step":             contract.Step{},
	"Template":         contract.Template{},
	"TemplateCases":    contract.TemplateCases{},
	"TemplateText":     contract.TemplateText{},
	"TerminalSignIn":   contract.TerminalSignIn{},
	"TextCheck":        contract.TextCheck{},
	"ToSign":           contract.ToSign{},
	"Token":            contract.Token{},
	"Trial":            contract.Trial{},
	"Tried":            contract.Tried{},
	"User":             contract.User{},
	"Variant":          contract.Variant{},
	"Verification":     contract.Verification{},
	"VerifiedResource": contract.VerifiedResource{},
	"Where":            contract.Where{},
}
