package openstack

import (
	"cmp"
	"context"
	"encoding/base64"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"undersail/internal/cloud"
	"undersail/internal/core/resource"
)

func init() {
	conducts["instance"] = conduct{main: "server", see: seeMachine, create: makeMachine, alter: alterMachine, remove: removeMachine, parts: single("server", "port", "floating")}
}

// An instance is a server on ports of its own, with a floating address where it is to be
// reached from outside. Disks are attached in the call that makes the server.

// cardMark is the mark of the port of a further card.
func cardMark(token string, i int) string { return token + "." + strconv.Itoa(i+1) }

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
	return l, w.reachable(ctx, &l, port)
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
	case s.Status == "VERIFY_RESIZE" && s.Task == "":
		l.Phase, l.Trial = cloud.Ready, true
	case s.Status == "ACTIVE" && s.Task == "":
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
		if strings.HasPrefix(k, metaDisk) && s.Status != "BUILD" && !slices.ContainsFunc(s.Volumes, func(x struct {
			ID string `json:"id"`
		}) bool {
			return x.ID == id
		}) {
			out = append(out, id)
		}
	}
	slices.Sort(out)
	return out
}

// disksOf gives the disks of a server as they were asked for, as far as they are attached.
func disksOf(s thing) []any {
	var out []any
	for i := 0; ; i++ {
		text, there := s.Metadata[metaDisk+strconv.Itoa(i)]
		if !there {
			break
		}
		words := strings.SplitN(text, " ", 3)
		one := map[string]any{"disk": words[0]}
		if len(words) > 1 && words[1] != "-" {
			one["mount"] = words[1]
		}
		if len(words) > 2 && words[2] != "-" {
			one["format"] = words[2]
		}
		out = append(out, one)
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
		if list[0].Status != "ACTIVE" && l.Phase == cloud.Ready {
			l.Phase, l.Why = cloud.Making, "its floating address is not active yet"
		}
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
	if w.lost("server") {
		return cloud.Progress{}, gone()
	}
	want := w.task.Want
	s, port := w.part("server"), w.part("port")
	if s == nil {
		if port == nil {
			return w.makePort(ctx, w.ref.Token, want["subnet"], want["firewalls"])
		}
		cards, _ := want["cards"].([]any)
		for i, c := range cards {
			card, _ := c.(map[string]any)
			if mark := cardMark(w.ref.Token, i); w.have["port "+mark] == nil {
				return w.makePort(ctx, mark, card["subnet"], card["firewalls"])
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
	if p, did, err := w.metadata(ctx, "server", w.task.Tags); did || err != nil {
		return p, err
	}
	return w.addressed(ctx, port)
}

// addressed gives a machine its public address: one of its own, or one that there is.
func (w *work) addressed(ctx context.Context, port *thing) (cloud.Progress, error) {
	if public, _ := w.task.Want["public"].(bool); public && w.part("floating") == nil && port != nil {
		return w.float(ctx, w.ref.Token, port.ID)
	}
	if id, ok := w.task.Want["address"].(string); ok && id != "" && port != nil {
		if p, did, err := w.associate(ctx, id, port); did || err != nil {
			return p, err
		}
	}
	cards, _ := w.task.Want["cards"].([]any)
	for i, c := range cards {
		card, _ := c.(map[string]any)
		if id, ok := card["address"].(string); ok && id != "" {
			if p, did, err := w.associate(ctx, id, w.have["port "+cardMark(w.ref.Token, i)]); did || err != nil {
				return p, err
			}
		}
	}
	if own := w.part("floating"); own != nil {
		if p, did, err := w.tagged(ctx, "floating", w.task.Tags, nil); did || err != nil {
			return p, err
		}
	}
	return w.done(ctx)
}

func (w *work) associate(ctx context.Context, id string, port *thing) (cloud.Progress, bool, error) {
	f, err := w.a.byID(ctx, w.ref.Region, "floating", id)
	switch {
	case err != nil:
		return cloud.Progress{}, false, err
	case f == nil:
		return cloud.Progress{}, false, &cloud.Error{Class: cloud.Invalid, Property: "address", Message: "there is no floating address " + id, Remedy: "propose again"}
	case port == nil || f.Port == port.ID:
		return cloud.Progress{}, false, nil
	case f.Port != "":
		return cloud.Progress{}, false, &cloud.Error{Class: cloud.InUse, Message: f.Floating + " is on another machine", Remedy: "take it off there first"}
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
		return cloud.Progress{}, &cloud.Error{Class: cloud.Invalid, Property: "subnet", Message: fmt.Sprintf("there is no subnet %v", subnet), Remedy: "propose again"}
	}
	body := map[string]any{"network_id": s.Network, "fixed_ips": []any{map[string]any{"subnet_id": s.ID}}, "description": marking + mark, "name": fmt.Sprint(w.task.Want["name"])}
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
	meta := maps.Clone(w.task.Tags)
	if meta == nil {
		meta = map[string]string{}
	}
	meta[metaMark] = w.ref.Token
	networks := []any{map[string]any{"port": port.ID}}
	for i := range cards {
		networks = append(networks, map[string]any{"port": w.have["port "+cardMark(w.ref.Token, i)].ID})
	}
	body := map[string]any{"name": fmt.Sprint(want["name"]), "flavorRef": flavor, "imageRef": image, "networks": networks, "tags": []string{w.ref.Token}, "config_drive": true}
	disks, _ := want["disks"].([]any)
	boot := []any{map[string]any{"uuid": image, "source_type": "image", "destination_type": "local", "boot_index": 0, "delete_on_termination": true}}
	for i, item := range disks {
		d, _ := item.(map[string]any)
		id := fmt.Sprint(d["disk"])
		boot = append(boot, map[string]any{"uuid": id, "source_type": "volume", "destination_type": "volume", "boot_index": -1, "delete_on_termination": false})
		meta[metaDisk+strconv.Itoa(i)] = strings.Join([]string{id, cmp.Or(text(d["mount"]), "-"), cmp.Or(text(d["format"]), "-")}, " ")
	}
	if len(disks) > 0 {
		body["block_device_mapping_v2"] = boot
	}
	body["metadata"] = meta
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

func text(v any) string {
	s, _ := v.(string)
	return s
}

// userData is the first-boot document of a machine, with what formats and mounts its
// disks: the platform tells a guest a disk by the first 20 letters of its volume's id.
func userData(v any, disks []any) ([]byte, error) {
	document, _ := v.(map[string]any)
	document = maps.Clone(document)
	var systems, mounts []any
	for _, item := range disks {
		d, _ := item.(map[string]any)
		id, mount, format := text(d["disk"]), text(d["mount"]), text(d["format"])
		device := "/dev/disk/by-id/virtio-" + id[:min(20, len(id))]
		if format != "" {
			systems = append(systems, map[string]any{"device": device, "filesystem": format, "overwrite": false})
		}
		if mount != "" {
			mounts = append(mounts, []any{device, mount, cmp.Or(format, "auto"), "defaults,nofail"})
		}
	}
	if len(systems)+len(mounts) > 0 && document == nil {
		document = map[string]any{}
	}
	for key, more := range map[string][]any{"fs_setup": systems, "mounts": mounts} {
		if own, _ := document[key].([]any); len(more) > 0 {
			document[key] = append(slices.Clone(own), more...)
		}
	}
	if document == nil {
		return nil, nil
	}
	return cloud.CloudConfig(document)
}

func alterMachine(ctx context.Context, w *work) (cloud.Progress, error) {
	s, port := w.part("server"), w.part("port")
	if s == nil {
		return cloud.Progress{}, gone()
	}
	if name, named := w.task.Want["name"]; named && s.Name != fmt.Sprint(name) {
		if err := w.put(ctx, "server", s, map[string]any{"name": fmt.Sprint(name)}); err != nil {
			return cloud.Progress{}, err
		}
		s.Name = fmt.Sprint(name)
		return w.more(ctx)
	}
	if p, did, err := w.metadata(ctx, "server", w.task.Tags); did || err != nil {
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
			again, err := w.a.byID(ctx, w.ref.Region, "port", port.ID)
			if err != nil || again == nil {
				return cloud.Progress{}, err
			}
			w.have["port "+w.ref.Token] = again
			l, err := w.live(ctx)
			return cloud.Progress{Live: l, More: true}, err
		}
	}
	return w.resized(ctx, s)
}

// resized gives a server another size. It is then on trial, until the checks say that it
// stays; see Confirm and Revert.
func (w *work) resized(ctx context.Context, s *thing) (cloud.Progress, error) {
	size, asked := w.task.Want["size"].(string)
	if !asked || s.Flavor.Name == size {
		if s.Status == "RESIZE" || s.Task != "" {
			return w.more(ctx)
		}
		return w.done(ctx)
	}
	if s.Status == "RESIZE" || s.Task != "" {
		return w.more(ctx)
	}
	if s.Status == "VERIFY_RESIZE" { // an earlier one that nobody confirmed
		if err := w.act(ctx, "server", s.ID, map[string]any{"confirmResize": nil}); err != nil {
			return cloud.Progress{}, fmt.Errorf("confirm the size before: %w", err)
		}
		return w.more(ctx)
	}
	flavor, err := w.a.flavorID(ctx, w.ref.Region, size)
	if err != nil {
		return cloud.Progress{}, err
	}
	if err := w.act(ctx, "server", s.ID, map[string]any{"resize": map[string]any{"flavorRef": flavor}}); err != nil {
		return cloud.Progress{}, fmt.Errorf("change its size: %w", err)
	}
	return w.more(ctx)
}

// Confirm keeps what a machine was altered to and is on trial with.
func (a *Adapter) Confirm(ctx context.Context, ref cloud.Ref) error {
	return a.settle(ctx, ref, "confirmResize")
}

// Revert gives a machine back what it had before.
func (a *Adapter) Revert(ctx context.Context, ref cloud.Ref) error {
	return a.settle(ctx, ref, "revertResize")
}

func (a *Adapter) settle(ctx context.Context, ref cloud.Ref, action string) error {
	s, err := a.find(ctx, ref, "server", ref.Token)
	if err != nil || s == nil || s.Status != "VERIFY_RESIZE" {
		return err
	}
	w := &work{a: a, ref: ref}
	return w.act(ctx, "server", s.ID, map[string]any{action: nil})
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
