package openstack

import (
	"cmp"
	"context"
	"encoding/base64"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"undersail/internal/cloud"
	"undersail/internal/core/resource"
)

func init() {
	conducts["instance"] = conduct{
		main:   "server",
		see:    seeMachine,
		create: makeMachine,
		alter:  alterMachine,
		remove: removeMachine,
		parts:  single("server", "port", "floating"),
	}
}

// An instance is a server on ports of its own, with a floating address where it is to be
// reached from outside. Its first disks are attached in the call that makes the server.

// cardMark is the mark of the port of a card: the first has that of the machine.
func cardMark(token string, i int) string {
	if i == 0 {
		return token
	}
	return token + "." + strconv.Itoa(i)
}

// card gives the port of a card, or nil.
func (w *work) card(i int) *thing { return w.have["port "+cardMark(w.ref.Token, i)] }

// fixedOf gives the ids of the fixed addresses that are wanted, card by card; "" is none.
func fixedOf(want map[string]any) []string {
	out := []string{text(want["address"])}
	cards, _ := want["cards"].([]any)
	for _, c := range cards {
		card, _ := c.(map[string]any)
		out = append(out, text(card["address"]))
	}
	return out
}

func seeMachine(ctx context.Context, w *work) (cloud.Live, error) {
	s, port := w.part("server"), w.part("port")
	l := cloud.Live{Phase: cloud.Making, Attributes: map[string]any{"public_address": ""}, Has: map[string]any{}}
	if s == nil {
		if w.lost("server") {
			l.Phase, l.Why = cloud.Broken, "its server is gone and its port is left"
		}
		return l, nil
	}
	w.machinePhase(&l, s)
	if s.Flavor.Name != "" {
		l.Has["size"] = s.Flavor.Name
		l.Attributes["vcpus"], l.Attributes["memory"] = s.Flavor.VCPUs, resource.FormatData(s.Flavor.MiB<<20)
	}
	if name, err := w.a.imageName(ctx, w.ref.Region, s.Image); err == nil && name != "" {
		l.Has["image"] = name
	}
	if s.ServerZone != "" {
		l.Has["zone"] = s.ServerZone
	}
	if s.KeyName != "" {
		l.Has["key_pair"] = s.KeyName
	}
	if disks := disksOf(*s); len(disks) > 0 {
		l.Has["disks"] = disks
	}
	if port != nil && len(port.Addresses) > 0 {
		l.Attributes["private_address"], l.Has["subnet"] = port.Addresses[0].Address, port.Addresses[0].Subnet
	}
	var further []any
	for i := 1; w.card(i) != nil; i++ {
		if card := w.card(i); len(card.Addresses) > 0 {
			further = append(further, card.Addresses[0].Address)
		}
	}
	if further != nil {
		l.Attributes["card_addresses"] = further
	}
	if err := w.fixed(ctx, &l, s); err != nil {
		return l, err
	}
	return l, w.reachable(ctx, &l, port)
}

// fixed looks whether each fixed address that a machine was made with is on its card: a
// machine that is to be reached by one is not there before.
func (w *work) fixed(ctx context.Context, l *cloud.Live, s *thing) error {
	for _, name := range slices.Sorted(maps.Keys(s.Metadata)) {
		number, is := strings.CutPrefix(name, metaFixed)
		card, err := strconv.Atoi(number)
		if !is || err != nil || l.Phase != cloud.Ready {
			continue
		}
		f, err := w.a.byID(ctx, w.ref.Region, "floating", s.Metadata[name])
		if err != nil {
			return err
		}
		port := w.card(card)
		switch {
		case f == nil:
			l.Phase, l.Why = cloud.Broken, "its fixed address was removed by somebody else"
		case port != nil && f.Port != port.ID:
			l.Phase, l.Why = cloud.Making, f.Floating+" is not on it"
		case f.Status != "ACTIVE":
			l.Phase, l.Why = cloud.Making, f.Floating+" is not active yet"
		}
	}
	return nil
}

// machinePhase judges a server together with its ports: it is there when the server is
// active, no task is at work on it, and its ports are active.
func (w *work) machinePhase(l *cloud.Live, s *thing) {
	switch {
	case s.Task == "deleting":
		l.Phase = cloud.Removing
		return
	case s.Status == "ERROR":
		l.Phase, l.Why = cloud.Broken, cmp.Or(s.Fault.Message, "the cloud says ERROR of the server")
		return
	case (s.Status == "ACTIVE" || s.Status == "VERIFY_RESIZE") && s.Task == "": // the latter with a size on trial
		l.Phase = cloud.Ready
	case s.Status == "SHUTOFF" && s.Task == "":
		l.Why = "it is shut off"
		return
	default:
		return
	}
	for _, p := range w.ref.Parts {
		t := w.have[p.Kind+" "+p.Mark]
		switch {
		case p.Kind == "port" && p.Seen && t == nil:
			l.Phase, l.Why = cloud.Broken, "a port of it was removed by somebody else"
			return
		case p.Kind == "floating" && p.Seen && t == nil:
			l.Phase, l.Why = cloud.Broken, "its floating address was removed by somebody else"
			return
		case t != nil && (t.Status == "DOWN" || t.Status == "BUILD"):
			l.Phase, l.Why = cloud.Making, "its "+p.Kind+" is not active yet"
		case t != nil && t.Status == "ERROR":
			l.Phase, l.Why = cloud.Broken, "the cloud says ERROR of its "+p.Kind
			return
		}
	}
	for _, d := range w.missingDisks(s) {
		l.Phase, l.Why = cloud.Broken, "volume "+d+" is not attached any more"
	}
}

// missingDisks lists the volumes that a server was made with and has no more.
func (w *work) missingDisks(s *thing) []string {
	var out []string
	for k, v := range s.Metadata {
		id, _, _ := strings.Cut(v, " ")
		if strings.HasPrefix(k, metaDisk) && s.Status != "BUILD" && !s.has(id) {
			out = append(out, id)
		}
	}
	slices.Sort(out)
	return out
}

// disksOf gives the disks of a server as they were asked for, as far as they are attached.
func disksOf(s thing) []any {
	var out []any
	for _, line := range s.diskLines() {
		out = append(out, diskOfLine(line))
	}
	if out == nil {
		for _, v := range s.Volumes {
			out = append(out, map[string]any{"disk": v.ID})
		}
	}
	return out
}

// reachable tells by which addresses a machine is reached, and what lets in to it.
func (w *work) reachable(ctx context.Context, l *cloud.Live, port *thing) error {
	if port == nil {
		return nil
	}
	groups := []any{}
	open := map[string]any{}
	var address string
	if own := w.part("floating"); own != nil {
		address, l.Has["public"] = own.Floating, true
	} else if list, err := w.a.list(ctx, w.ref.Region, "floating", url.Values{"port_id": {port.ID}}); err != nil {
		return err
	} else if len(list) > 0 {
		address, l.Has["address"] = list[0].Floating, list[0].ID
	}
	for _, id := range port.Groups {
		g, err := w.a.byID(ctx, w.ref.Region, "group", id)
		if err != nil {
			return err
		}
		if g == nil || g.Name == "default" && g.mark() == "" {
			continue // everybody's own, which lets nothing in from outside
		}
		groups = append(groups, id)
		for _, r := range g.Rules {
			if is, one := r.inbound(); one && address != "" && is.protocol == "tcp" {
				open[strconv.FormatInt(is.port, 10)] = address + ":" + strconv.FormatInt(is.port, 10)
			}
		}
	}
	if len(groups) > 0 {
		l.Has["firewalls"] = groups
	}
	l.Attributes["public_address"], l.Attributes["reach"] = address, open
	return nil
}

func makeMachine(ctx context.Context, w *work) (cloud.Progress, error) {
	want := w.task.Want
	s, port := w.part("server"), w.part("port")
	if s == nil {
		if port == nil {
			return w.makePort(ctx, w.ref.Token, want["subnet"], want["firewalls"])
		}
		cards, _ := want["cards"].([]any)
		for i, c := range cards {
			card, _ := c.(map[string]any)
			if w.card(i+1) == nil {
				return w.makePort(ctx, cardMark(w.ref.Token, i+1), card["subnet"], card["firewalls"])
			}
		}
		return w.makeServer(ctx, port, len(cards))
	}
	if s.Status == "ERROR" {
		return w.done(ctx) // looking tells why
	}
	if s.Status == "BUILD" || s.Task != "" {
		return w.more(ctx)
	}
	if p, did, err := w.tagged(ctx, "server", nil); did || err != nil {
		return p, err
	}
	return w.addressed(ctx, port)
}

// addressed gives a machine its public address: one of its own, or one that there is.
func (w *work) addressed(ctx context.Context, port *thing) (cloud.Progress, error) {
	if public, _ := w.task.Want["public"].(bool); public && w.part("floating") == nil && port != nil {
		return w.float(ctx, w.ref.Token, port.ID)
	}
	for i, id := range fixedOf(w.task.Want) {
		if id == "" {
			continue
		}
		if p, did, err := w.associate(ctx, id, w.card(i)); did || err != nil {
			return p, err
		}
	}
	if p, did, err := w.tagged(ctx, "floating", nil); did || err != nil {
		return p, err
	}
	return w.done(ctx)
}

func (w *work) associate(ctx context.Context, id string, port *thing) (cloud.Progress, bool, error) {
	f, err := w.a.byID(ctx, w.ref.Region, "floating", id)
	switch {
	case err != nil:
		return cloud.Progress{}, false, err
	case f == nil:
		return cloud.Progress{}, false, &cloud.Error{
			Class:    cloud.Invalid,
			Property: "address",
			Message:  "there is no floating address " + id,
			Remedy:   "propose again",
		}
	case port == nil || f.Port == port.ID:
		return cloud.Progress{}, false, nil
	case f.Port != "":
		return cloud.Progress{}, false, &cloud.Error{
			Class:   cloud.InUse,
			Message: f.Floating + " is on another machine",
			Remedy:  "take it off there first",
		}
	}
	if err := w.put(ctx, "floating", f, map[string]any{"port_id": port.ID}); err != nil {
		return cloud.Progress{}, false, err
	}
	p, err := w.more(ctx)
	return p, true, err
}

func (w *work) makePort(ctx context.Context, mark string, subnet, groups any) (cloud.Progress, error) {
	s, err := w.a.byID(ctx, w.ref.Region, "subnet", fmt.Sprint(subnet))
	if err != nil {
		return cloud.Progress{}, err
	}
	if s == nil {
		return cloud.Progress{}, &cloud.Error{
			Class:    cloud.Invalid,
			Property: "subnet",
			Message:  fmt.Sprintf("there is no subnet %v", subnet),
			Remedy:   "propose again",
		}
	}
	body := map[string]any{
		"network_id":  s.Network,
		"fixed_ips":   []any{map[string]any{"subnet_id": s.ID}},
		"description": marking + mark,
		"name":        fmt.Sprint(w.task.Want["name"]),
	}
	list, _ := groups.([]any)
	if list == nil {
		list = []any{} // none at all: the default group lets the others of the project in
	}
	body["security_groups"] = list
	return w.make(ctx, "port", mark, body)
}

func (w *work) makeServer(ctx context.Context, port *thing, cards int) (cloud.Progress, error) {
	want := w.task.Want
	flavor, err := w.a.flavorID(ctx, w.ref.Region, fmt.Sprint(want["size"]))
	if err != nil {
		return cloud.Progress{}, err
	}
	image, err := w.a.imageID(ctx, w.ref.Region, fmt.Sprint(want["image"]))
	if err != nil {
		return cloud.Progress{}, err
	}
	keep := map[string]string{}
	for i, id := range fixedOf(want) {
		if id != "" {
			keep[metaFixed+strconv.Itoa(i)] = id
		}
	}
	networks := []any{map[string]any{"port": port.ID}}
	for i := range cards {
		networks = append(networks, map[string]any{"port": w.card(i + 1).ID})
	}
	body := map[string]any{
		"name":         fmt.Sprint(want["name"]),
		"flavorRef":    flavor,
		"imageRef":     image,
		"networks":     networks,
		"tags":         []string{w.ref.Token},
		"config_drive": true,
	}
	disks, _ := want["disks"].([]any)
	boot := []any{map[string]any{
		"uuid":                  image,
		"source_type":           "image",
		"destination_type":      "local",
		"boot_index":            0,
		"delete_on_termination": true,
	}}
	for i, item := range disks {
		d, _ := item.(map[string]any)
		id := fmt.Sprint(d["disk"])
		boot = append(boot, map[string]any{
			"uuid":                  id,
			"source_type":           "volume",
			"destination_type":      "volume",
			"boot_index":            -1,
			"delete_on_termination": false,
		})
		keep[metaDisk+strconv.Itoa(i)] = diskLine(d)
	}
	if len(disks) > 0 {
		body["block_device_mapping_v2"] = boot
	}
	body["metadata"] = w.metadata(keep)
	if zone, ok := want["zone"].(string); ok && zone != "" {
		body["availability_zone"] = zone
	}
	if key, ok := want["key_pair"].(string); ok && key != "" {
		body["key_name"] = key
	}
	data, err := userData(want["user_data"], disks)
	if err != nil {
		return cloud.Progress{}, err
	}
	if data != nil {
		body["user_data"] = base64.StdEncoding.EncodeToString(data)
	}
	p, err := w.make(ctx, "server", w.ref.Token, body)
	p.Live.ReadyIn = soon
	return p, err
}

func alterMachine(ctx context.Context, w *work) (cloud.Progress, error) {
	s, port := w.part("server"), w.part("port")
	if p, did, err := w.described(ctx, "server"); did || err != nil {
		return p, err
	}
	groups, asked := w.task.Want["firewalls"]
	if (asked || slices.Contains(w.task.Unset, "firewalls")) && port != nil {
		list, _ := groups.([]any)
		wanted := []string{}
		for _, g := range list {
			wanted = append(wanted, fmt.Sprint(g))
		}
		have := slices.Clone(port.Groups)
		slices.Sort(have)
		if sorted := slices.Sorted(slices.Values(wanted)); !slices.Equal(sorted, have) {
			if err := w.put(ctx, "port", port, map[string]any{"security_groups": wanted}); err != nil {
				return cloud.Progress{}, err
			}
			return w.reread(ctx, port)
		}
	}
	if p, did, err := w.attached(ctx, s); did || err != nil {
		return p, err
	}
	return w.resized(ctx, s)
}

func removeMachine(ctx context.Context, w *work) (cloud.Progress, error) {
	removing := cloud.Progress{Live: cloud.Live{Ref: w.ref, Phase: cloud.Removing, ReadyIn: soon}, More: true}
	if own := w.part("floating"); own != nil {
		return removing, w.a.drop(ctx, w.ref.Region, "floating", own.ID)
	}
	if s := w.part("server"); s != nil {
		if s.Task == "deleting" {
			return removing, nil
		}
		return removing, w.a.drop(ctx, w.ref.Region, "server", s.ID)
	}
	// Ports that a client made outlive their server.
	for _, t := range w.have {
		if t.kind == "port" {
			return removing, w.a.drop(ctx, w.ref.Region, "port", t.ID)
		}
	}
	removing.More = false
	return removing, nil
}

// Log reads what a machine wrote to its console, oldest line first.
func (a *Adapter) Log(ctx context.Context, r cloud.Ref) ([]string, error) {
	if r.Type != resource.TypeInstance {
		return nil, nil
	}
	s, err := a.find(ctx, r, "server", r.Token)
	if err != nil || s == nil {
		return nil, err
	}
	var answer struct {
		Output string `json:"output"`
	}
	err = a.do(ctx, r.Region, call{
		service: compute,
		method:  http.MethodPost,
		path:    "servers/" + s.ID + "/action",
		in:      map[string]any{"os-getConsoleOutput": map[string]any{"length": 1000}},
		out:     &answer,
	})
	if err != nil {
		return nil, fmt.Errorf("read the console of %s: %w", s.Name, err)
	}
	if answer.Output == "" {
		return nil, nil
	}
	return strings.Split(strings.TrimRight(answer.Output, "\n"), "\n"), nil
}
