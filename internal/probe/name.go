package probe

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"
)

// questionOf says what a check of a name asks.
func questionOf(spec map[string]any) string {
	return fmt.Sprintf("%s of %s at %s", cmp.Or(textOf(spec, "kind"), "A"), textOf(spec, "name"),
		textOf(spec, "server"))
}

func init() { lookers["name"] = looker{questionOf, Prober.name} }

// name asks a name server for a record, and wants every value that is named.
func (p Prober) name(ctx context.Context, spec map[string]any) (string, answer) {
	r, err := p.route(ctx, spec)
	asked := questionOf(spec) + r.words
	if err != nil {
		return asked, none(reason(err))
	}
	defer r.close()
	kind, known := dns.StringToType[cmp.Or(textOf(spec, "kind"), "A")]
	if !known {
		return asked, none("there is no such kind of record")
	}
	server := textOf(spec, "server")
	if _, _, err := net.SplitHostPort(server); err != nil {
		server = net.JoinHostPort(server, "53")
	}
	got, err := ask(ctx, r, server, textOf(spec, "name"), kind)
	if err != nil {
		return asked, none(reason(err))
	}
	want, _ := spec["values"].([]any)
	passed := len(got) > 0
	for _, v := range want {
		passed = passed && slices.Contains(got, wanted(kind, fmt.Sprint(v)))
	}
	if len(got) == 0 {
		return asked, none("no such record")
	}
	return asked, answer{words: strings.Join(got, ", "), passed: passed}
}

// wanted is a value of a record as ask gives it: names in small letters without the dot at the
// end, addresses in their shortest form, texts as they are.
func wanted(kind uint16, text string) string {
	switch kind {
	case dns.TypeTXT:
		return text
	case dns.TypeA, dns.TypeAAAA:
		if at, err := netip.ParseAddr(text); err == nil {
			return at.String()
		}
	}
	return strings.ToLower(strings.TrimSuffix(text, "."))
}

// ask asks one server over TCP, which goes through jump hosts too. The values come as
// wanted gives them.
func ask(ctx context.Context, r route, server, name string, kind uint16) ([]string, error) {
	conn, err := r.dial(ctx, "tcp", server)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	m := new(dns.Msg).SetQuestion(dns.Fqdn(name), kind)
	c := &dns.Conn{Conn: conn}
	if err := c.WriteMsg(m); err != nil {
		return nil, err
	}
	res, err := c.ReadMsg()
	switch {
	case err != nil:
		return nil, err
	case res.Id != m.Id:
		return nil, errors.New("the server answered another question")
	case res.Rcode != dns.RcodeSuccess && res.Rcode != dns.RcodeNameError:
		return nil, fmt.Errorf("the server answered %s", dns.RcodeToString[res.Rcode])
	}
	out := []string{}
	for _, rr := range res.Answer {
		if rr.Header().Rrtype == kind {
			out = append(out, valueOf(rr))
		}
	}
	return out, nil
}

func valueOf(rr dns.RR) string {
	switch v := rr.(type) {
	case *dns.A:
		return v.A.String()
	case *dns.AAAA:
		return v.AAAA.String()
	case *dns.CNAME:
		return strings.ToLower(strings.TrimSuffix(v.Target, "."))
	case *dns.MX:
		return fmt.Sprintf("%d %s", v.Preference, strings.ToLower(strings.TrimSuffix(v.Mx, ".")))
	case *dns.TXT:
		return strings.Join(v.Txt, "")
	case *dns.NS:
		return strings.ToLower(strings.TrimSuffix(v.Ns, "."))
	}
	return strings.ToLower(strings.TrimSpace(strings.TrimPrefix(rr.String(), rr.Header().String())))
}

// resolved finds the address of a host: itself, or what the account's own name server
// says of it.
func (p Prober) resolved(ctx context.Context, host string) (netip.Addr, error) {
	if at, err := netip.ParseAddr(host); err == nil {
		return at, nil
	}
	if p.Names == "" {
		return netip.Addr{}, fmt.Errorf("%s is no address, and the cloud tells no name server of its own", host)
	}
	got, err := ask(ctx, route{dial: p.Policy.Dial}, p.Names, host, dns.TypeA)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("the name %s: %w", host, err)
	}
	for _, text := range got {
		if at, err := netip.ParseAddr(text); err == nil {
			return at, nil
		}
	}
	return netip.Addr{}, fmt.Errorf("there is no name %s", host)
}
