package larch

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"undersail/sim/guest"
	"undersail/sim/market"
	"undersail/sim/world"
)

func bytesOf(text string) int64 {
	n, _ := market.Bytes(text) // the market file was checked when it was read
	return n
}

// resume boots the guests that run and plans those that will.
func (c *Cloud) resume() {
	var machines []*world.Resource
	c.world.Update(func(tx *world.Tx) error {
		c.pools.Store(len(tx.All(func(x *world.Resource) bool { return x.Kind == "pools" })) > 0)
		machines = tx.All(func(x *world.Resource) bool {
			return slices.Contains([]string{"instances", "databases", "private-clouds", "file-shares"}, x.Kind)
		})
		return nil
	})
	for _, x := range machines {
		if x.Kind == "instances" && x.PhaseAt(time.Now()) == world.Ready {
			c.boot(x.ID, x.Account) // before anybody can ask for it
			continue
		}
		c.plan(x)
	}
}

// plan boots a machine when it will be ready, and tells running machines of
// firewalls that changed.
func (c *Cloud) plan(x *world.Resource) {
	switch x.Kind {
	case "instances":
		now := time.Now()
		at := x.ReadyAt
		if x.ChangedAt.After(at) {
			at = x.ChangedAt
		}
		if g := c.fabric.Guest(x.ID); g != nil && at.After(now) {
			c.fabric.Halt(x.ID)
		}
		time.AfterFunc(at.Sub(now), func() { c.boot(x.ID, x.Account) })
	case "databases":
		at := x.ReadyAt
		if x.ChangedAt.After(at) {
			at = x.ChangedAt
		}
		time.AfterFunc(time.Until(at), func() { c.openDatabase(x.ID, x.Account) })
	case "file-shares":
		c.planShare(x)
	case "private-clouds":
		time.AfterFunc(time.Until(x.ReadyAt), func() { c.openPrivateCloud(x.ID, x.Account) })
	case "firewalls":
		time.AfterFunc(time.Until(x.ChangedAt), c.refresh)
	}
}

// changed lets a change take hold: another size or role needs a stop, other rules and
// disks are told, and the rest concerns nobody inside.
func (c *Cloud) changed(x *world.Resource, properties map[string]any) {
	_, resized := properties["size"]
	_, acts := properties["role_id"]
	switch {
	case x.Kind == "disks", x.Kind == "subnets", x.Kind == "instances" && !resized && !acts:
		time.AfterFunc(time.Until(x.ChangedAt), c.refresh)
	default:
		c.plan(x)
	}
}

func (c *Cloud) boot(id, account string) {
	var x *world.Resource
	var spec guest.Spec
	var rules []guest.Rule
	err := c.world.Update(func(tx *world.Tx) error {
		x = tx.ByID(account, id)
		if x == nil || x.PhaseAt(time.Now()) != world.Ready {
			x = nil
			return nil
		}
		spec, rules = c.spec(tx, x), rulesOf(tx, x)
		return nil
	})
	if err != nil || x == nil {
		return
	}
	c.fabric.Boot(spec, rules)
	// The key is told last: who sees it may rely on the machine being there.
	c.world.Update(func(tx *world.Tx) error {
		if now := tx.ByID(account, id); now != nil && now.Attributes["host_key"] == nil {
			now.Attributes["host_key"] = string(ssh.MarshalAuthorizedKey(spec.HostKey.PublicKey()))
			tx.Put(now)
		}
		return nil
	})
}

func (c *Cloud) spec(tx *world.Tx, x *world.Resource) guest.Spec {
	data, err := userData(str(x.Properties["user_data"]))
	if err != nil {
		slog.Warn("guest boots without its configuration", "machine", x.Label, "error", err)
	}
	image, _ := c.market.Image(str(x.Properties["image"]))
	size, _ := c.market.Size(x.Region, str(x.Properties["size"]))
	subnet := tx.ByID(x.Account, str(x.Properties["subnet_id"]))
	booted := x.ReadyAt
	if x.ChangedAt.After(booted) {
		booted = x.ChangedAt
	}
	private, _ := netip.ParseAddr(str(x.Attributes["private_address"]))
	public, _ := netip.ParseAddr(str(x.Attributes["public_address"]))
	s := guest.Spec{
		ID:          x.ID,
		Label:       x.Label,
		Card:        guest.Card{Private: private, Public: public},
		Image:       image,
		VCPUs:       size.VCPUs,
		MemoryBytes: size.GiB << 30,
		UserData:    data,
		Booted:      booted,
		HostKey:     hostKey(x.ID),
		Certificate: certificate(x, public),
		Zones:       c.market.Regions[x.Region].Zones,
	}
	if subnet != nil {
		s.Network = str(subnet.Properties["network_id"])
	}
	for i, card := range cardsOf(x) {
		further := guest.Card{}
		if at := tx.ByID(x.Account, str(card["subnet_id"])); at != nil {
			further.Network = str(at.Properties["network_id"])
		}
		if given, _ := x.Attributes["card_addresses"].([]any); i < len(given) {
			further.Private, _ = netip.ParseAddr(str(given[i]))
		}
		if fixed := tx.ByID(x.Account, str(card["address_id"])); fixed != nil {
			further.Public, _ = netip.ParseAddr(str(fixed.Attributes["address"]))
		}
		s.Further = append(s.Further, further)
	}
	if key := tx.ByID(x.Account, str(x.Properties["key_id"])); key != nil {
		s.Key = str(key.Properties["public_key"])
	}
	s.NoWayOut = !wayOut(tx, x)
	s.Lease = leaseOf(subnet)
	s.Attached = func() (disks []guest.Disk) {
		c.world.Update(func(tx *world.Tx) error {
			if now := tx.ByID(x.Account, x.ID); now != nil {
				disks = disksOf(tx, now)
			}
			return nil
		})
		return disks
	}
	s.Leased = func() (lease guest.Lease) {
		c.world.Update(func(tx *world.Tx) error {
			if now := tx.ByID(x.Account, x.ID); now != nil {
				lease = leaseOf(tx.ByID(now.Account, str(now.Properties["subnet_id"])))
			}
			return nil
		})
		return lease
	}
	s.Fetch = func(url string) (int, string) { return c.fetch(x.Account, x.ID, url) }
	s.Resolve = func(name string) []string {
		networks := []string{s.Network}
		for _, card := range s.Further {
			networks = append(networks, card.Network)
		}
		return c.resolve(x.Account, networks, name)
	}
	matches := x.Label + " " + x.Name
	s.Held = func() bool {
		_, hit := c.world.Planned("service-never", x.Account, "instances", matches)
		return hit
	}
	s.Spoilt = func(what string) bool {
		_, hit := c.world.Planned("spoilt", x.Account, what, matches)
		return hit
	}
	s.Make = func(machines int) error { return c.makeBy(x, machines) }
	s.Submit = func(jobs int) (string, error) { return c.submit(x.Account, s.Network, jobs) }
	s.Queue = func() (int64, int64, int64) { return c.queue(x.Account, s.Network) }
	zone := str(x.Properties["zone"])
	s.Dead = func() bool {
		if _, hit := c.world.Planned("guest-dead", x.Account, "instances", matches); hit {
			return true
		}
		f, hit := c.world.Planned("zone-down", x.Account, "", zone)
		return hit && f.Label == zone
	}
	s.Turns = func() (time.Duration, bool) {
		f, hit := c.world.Planned("turns-back", x.Account, "instances", matches)
		return time.Duration(f.Seconds) * time.Second, hit
	}
	s.Failed = func(id string) bool {
		failed := false
		c.world.Update(func(tx *world.Tx) error {
			disk := tx.ByID(x.Account, id)
			if disk != nil {
				_, failed = tx.Planned("disk-fails", x.Account, "disks", disk.Label+" "+disk.Name)
			}
			return nil
		})
		return failed
	}
	return s
}

// log tells what a machine wrote to its console since its boot.
func (c *Cloud) log(w http.ResponseWriter, r *http.Request) error {
	var x *world.Resource
	err := c.world.Update(func(tx *world.Tx) error {
		x = tx.Find(c.account(r).Name, r.PathValue("region"), "instances", r.PathValue("name"))
		return nil
	})
	if err != nil {
		return err
	}
	if x == nil {
		return refuse(404, "gone", "there is no instance "+r.PathValue("name"), nil)
	}
	lines := []string{}
	if g := c.fabric.Guest(x.ID); g != nil {
		lines = g.Console(time.Now())
	}
	return writeJSON(w, 200, map[string]any{"lines": lines})
}

func str(v any) string { s, _ := v.(string); return s }

// leaseOf is what the machines of a subnet are told there. Where it names no server for
// names, its router answers for them.
func leaseOf(subnet *world.Resource) guest.Lease {
	if subnet == nil {
		return guest.Lease{}
	}
	var lease guest.Lease
	resolvers, _ := subnet.Properties["resolvers"].([]any)
	clocks, _ := subnet.Properties["clocks"].([]any)
	for _, at := range resolvers {
		lease.Names = append(lease.Names, str(at))
	}
	for _, at := range clocks {
		lease.Times = append(lease.Times, str(at))
	}
	if len(lease.Names) == 0 {
		lease.Names = []string{str(subnet.Attributes["router"])}
	}
	return lease
}

// closed reports whether no packets get out of a subnet from a machine, with a public
// address of its own there or without one.
func closed(subnet *world.Resource, public bool) bool {
	switch str(subnet.Properties["egress"]) {
	case "none":
		return true
	case "address":
		return !public
	}
	return false
}

// cardsOf are the cards of a machine beside the first.
func cardsOf(x *world.Resource) []map[string]any {
	var out []map[string]any
	list, _ := x.Properties["cards"].([]any)
	for _, item := range list {
		card, _ := item.(map[string]any)
		out = append(out, card)
	}
	return out
}

// rulesOf are the inbound rules of all cards of a machine.
func rulesOf(tx *world.Tx, x *world.Resource) []guest.Rule {
	ids, _ := x.Properties["firewall_ids"].([]any)
	rules := rulesBefore(tx, x.Account, ids, 0)
	for i, card := range cardsOf(x) {
		ids, _ := card["firewall_ids"].([]any)
		rules = append(rules, rulesBefore(tx, x.Account, ids, i+1)...)
	}
	return rules
}

func rulesBefore(tx *world.Tx, account string, firewalls []any, card int) []guest.Rule {
	var rules []guest.Rule
	for _, id := range firewalls {
		fw := tx.ByID(account, fmt.Sprint(id))
		if fw == nil {
			continue
		}
		inbound, _ := fw.Properties["inbound"].([]any)
		for _, item := range inbound {
			r, _ := item.(map[string]any)
			from, err := netip.ParsePrefix(str(r["source"]))
			if err == nil && (str(r["protocol"]) == "" || str(r["protocol"]) == "tcp") {
				rules = append(rules, guest.Rule{From: from, Port: int(number(r["port"])), Card: card})
			}
		}
	}
	return rules
}

// refresh tells every running guest the rules that hold now, and whether there is a way
// out.
func (c *Cloud) refresh() {
	c.world.Update(func(tx *world.Tx) error {
		for _, x := range tx.All(func(x *world.Resource) bool { return x.Kind == "instances" }) {
			if g := c.fabric.Guest(x.ID); g != nil {
				g.SetRules(rulesOf(tx, x))
				g.SetWayOut(wayOut(tx, x))
			}
		}
		return nil
	})
}

// disksOf are the disks that are attached to a machine.
func disksOf(tx *world.Tx, x *world.Resource) []guest.Disk {
	var out []guest.Disk
	disks, _ := x.Properties["disks"].([]any)
	for _, item := range disks {
		d, _ := item.(map[string]any)
		if disk := tx.ByID(x.Account, str(d["disk_id"])); disk != nil {
			out = append(out, guest.Disk{
				ID:       disk.ID,
				Bytes:    number(disk.Properties["gib"]) << 30,
				Mount:    str(d["mount"]),
				Format:   str(d["format"]),
				Optional: d["optional"] == true,
			})
		}
	}
	return out
}

// wayOut reports whether packets get out of the network from a machine.
func wayOut(tx *world.Tx, x *world.Resource) bool {
	open := func(subnet any, public bool) bool {
		at := tx.ByID(x.Account, str(subnet))
		return at != nil && !closed(at, public)
	}
	if open(x.Properties["subnet_id"], str(x.Attributes["public_address"]) != "") {
		return true
	}
	for _, card := range cardsOf(x) {
		if open(card["subnet_id"], str(card["address_id"]) != "") {
			return true
		}
	}
	return false
}

// hostKey derives the machine's key from its id, so that it stays the same
// over restarts of the simulator.
func hostKey(id string) ssh.Signer {
	seed := sha256.Sum256([]byte("host key of " + id))
	signer, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(seed[:]))
	if err != nil {
		panic(err) // an ed25519 key is always a signer
	}
	return signer
}

// certificate is self-signed for the machine's address, as on a fresh machine.
func certificate(x *world.Resource, public netip.Addr) tls.Certificate {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	t := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()),
		Subject:      pkix.Name{CommonName: strings.ToLower(x.Label)},
		NotBefore:    time.Now().Add(-time.Hour),
		NotAfter:     time.Now().AddDate(1, 0, 0),
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	if public.IsValid() {
		t.IPAddresses = []net.IP{public.AsSlice()}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		panic(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}
