package servicetest

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"

	"undersail/internal/await"
	"undersail/internal/cloud"
	"undersail/internal/cloud/registry"
	"undersail/sim/world"
)

// Adapter speaks to the first account as somebody could who has its credentials.
func (r *Rig) Adapter() cloud.Adapter {
	r.t.Helper()
	a := r.cloud.Accounts[0]
	adapter, err := registry.Open("larch", r.cloud.Place.Larch,
		map[string]string{"client_id": a.ClientID, "client_secret": a.ClientSecret}, cloud.NewClient(cloud.Transport{}))
	if err != nil {
		r.t.Fatal(err)
	}
	return adapter
}

// ByHand does something to a resource past the product: DELETE, or PATCH with
// properties.
func (r *Rig) ByHand(method, name string, properties map[string]any) {
	r.t.Helper()
	r.admin(method, "/resources/"+url.PathEscape(name), properties, http.StatusOK)
}

// RemoveByHand removes a resource past the product, even one that is used.
func (r *Rig) RemoveByHand(name string) {
	r.t.Helper()
	r.admin(http.MethodDelete, "/resources/"+url.PathEscape(name)+"?force", nil, http.StatusOK)
}

// SecretValue reads the value of a cloud's secret by its label, past every ledger.
func (r *Rig) SecretValue(label string) string {
	r.t.Helper()
	return r.cloud.SecretValue(label)
}

// Lift lifts every planned fault.
func (r *Rig) Lift() {
	r.t.Helper()
	r.admin(http.MethodDelete, "/faults", nil, http.StatusOK)
}

func (r *Rig) admin(method, path string, body any, want int) {
	r.t.Helper()
	raw, _ := json.Marshal(body)
	req, err := http.NewRequest(method, r.cloud.Place.Admin+path, bytes.NewReader(raw))
	if err != nil {
		r.t.Fatal(err)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		r.t.Fatal(err)
	}
	defer res.Body.Close()
	if res.StatusCode != want {
		text, _ := io.ReadAll(res.Body)
		r.t.Fatalf("%s %s: %s %s", method, path, res.Status, text)
	}
}

// Fault plans a fault of the cloud.
func (r *Rig) Fault(f world.Fault) {
	r.t.Helper()
	r.admin(http.MethodPost, "/faults", f, http.StatusCreated)
}

// Ledger tells what is true in the cloud.
func (r *Rig) Ledger() world.Ledger {
	r.t.Helper()
	res, err := http.Get(r.cloud.Place.Admin + "/ledger")
	if err != nil {
		r.t.Fatal(err)
	}
	defer res.Body.Close()
	var l world.Ledger
	if err := json.NewDecoder(res.Body).Decode(&l); err != nil {
		r.t.Fatal(err)
	}
	return l
}

// MakeByHand makes a resource past the product, as another client of the account would, and
// gives its id when it is there.
func (r *Rig) MakeByHand(typ string, want map[string]any, tags map[string]string) string {
	r.t.Helper()
	ctx := context.Background()
	adapter, ref := r.Adapter(), cloud.Ref{Region: "north-fell", Type: typ, Token: "by-hand-" + typ}
	_, err := adapter.Step(ctx, cloud.Task{Action: cloud.Create, Ref: ref, Want: want, Tags: tags},
		func(cloud.Part) error { return nil })
	if err != nil {
		r.t.Fatal(err)
	}
	id := ""
	await.Until(r.t, "the "+typ+" is there", func() bool {
		l, there, err := adapter.Look(ctx, ref)
		id = l.ID
		return err == nil && there == cloud.Present && l.Phase == cloud.Ready
	})
	return id
}
