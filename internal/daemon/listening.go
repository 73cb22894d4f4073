package daemon

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	stdlog "log"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"undersail/internal/api"
)

// Serving is how a service is reached.
type Serving struct {
	Listen string // host:port; port 0 takes a free one
	// URL is where people reach it; empty is where it listens.
	URL string
	// CertFile and TLSKeyFile are its TLS certificate with its chain and the key, in PEM. They
	// are read again when they change.
	CertFile, TLSKeyFile string
	// Proxies are the ranges of proxies that speak TLS before it, and tell by
	// X-Forwarded-For where a request came from.
	Proxies []string
	// MetricsListen is a listener of its own for /metrics, which asks for no token there.
	MetricsListen string
}

// Connections that are open at a time, in all and from one address. A proxy is many people.
const (
	connectionsAll  = 4096
	connectionsEach = 512
)

func (d *Daemon) listen(ctx context.Context, c Config) error {
	proxies, err := ranges(c.Proxies)
	if err != nil {
		return err
	}
	l, err := d.bind(c.Listen, "")
	if err != nil {
		return err
	}
	public, err := c.address(l.Addr().(*net.TCPAddr), len(proxies) > 0)
	if err != nil {
		return err
	}
	d.URL = public.String()
	if err := d.signing(c); err != nil {
		return err
	}
	h, metrics, err := api.New(ctx, d.Service, api.Options{
		Console: c.Console,
		Log:     c.Log,
		URL:     public,
		Proxies: proxies,
	})
	if err != nil {
		return fmt.Errorf("reading the contract: %w", err)
	}
	d.server = serverOf(ctx, h, c.Log)
	each := connectionsEach
	if len(proxies) > 0 {
		each = connectionsAll
	}
	l = newCrowd(l, connectionsAll, each)
	if c.speaksTLS() {
		pair, err := newPair(c.CertFile, c.TLSKeyFile, c.Log)
		if err != nil {
			return fmt.Errorf("reading the certificate: %w", err)
		}
		d.server.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: pair.certificate}
		go serving(c.Log, func() error { return d.server.ServeTLS(l, "", "") })
	} else {
		go serving(c.Log, func() error { return d.server.Serve(l) })
	}
	if c.MetricsListen == "" {
		return nil
	}
	own, err := d.bind(c.MetricsListen, " for metrics")
	if err != nil {
		return err
	}
	d.MetricsURL = "http://" + own.Addr().String() + "/metrics"
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", metrics)
	go serving(c.Log, func() error { return serverOf(ctx, mux, c.Log).Serve(newCrowd(own, 64, 16)) })
	return nil
}

// serving tells when a listener ends that nobody closed: nobody would know otherwise why the
// service does not answer.
func serving(log *slog.Logger, serve func() error) {
	if err := serve(); !errors.Is(err, http.ErrServerClosed) && !errors.Is(err, net.ErrClosed) {
		log.Error("nobody can connect any more; start the service again", "error", err)
	}
}

// bind listens at an address that nothing of ours may be asked to reach.
func (d *Daemon) bind(at, what string) (net.Listener, error) {
	l, err := net.Listen("tcp", at)
	if err != nil {
		return nil, fmt.Errorf("listen on %s%s: %w; choose another address", at, what, err)
	}
	d.closing = append(d.closing, l.Close)
	d.reach.Ours(l.Addr().String())
	return l, nil
}

func (s Serving) speaksTLS() bool { return s.CertFile != "" || s.TLSKeyFile != "" }

// address is where people reach a service that listens at an address: never in the clear
// over a network.
func (s Serving) address(at *net.TCPAddr, proxied bool) (*url.URL, error) {
	public := &url.URL{Scheme: "http", Host: at.String()}
	if s.speaksTLS() {
		public.Scheme = "https"
	}
	if !s.speaksTLS() && !at.IP.IsLoopback() && !proxied {
		return nil, fmt.Errorf("%s is reached from elsewhere, and passwords do not go over a network in the clear; "+
			"give --tls-cert and --tls-key, or tell with --behind-proxy which proxy speaks TLS before it", s.Listen)
	}
	if s.URL == "" {
		if proxied {
			return nil, errors.New("tell with --url where people reach the service behind its proxy")
		}
		return public, nil
	}
	public, err := url.Parse(s.URL)
	if err != nil || public.Host == "" || public.Scheme != "https" && public.Scheme != "http" ||
		public.Path != "" && public.Path != "/" {
		return nil, fmt.Errorf("--url %q is not the address of a service; give it such as "+
			"https://undersail.saltmere.example", s.URL)
	}
	if public.Scheme != "https" && (s.speaksTLS() || proxied) {
		return nil, fmt.Errorf("--url %s must begin with https: people reach the service by TLS", s.URL)
	}
	public.Path = ""
	return public, nil
}

// serverOf serves peers that send their headers in time.
func serverOf(ctx context.Context, h http.Handler, log *slog.Logger) *http.Server {
	return &http.Server{
		Handler:           h,
		ReadHeaderTimeout: 5 * time.Second,
		IdleTimeout:       time.Minute,
		MaxHeaderBytes:    32 << 10,
		HTTP2: &http.HTTP2Config{
			MaxConcurrentStreams: 100,
			SendPingTimeout:      30 * time.Second,
			WriteByteTimeout:     30 * time.Second,
		},
		BaseContext: func(net.Listener) context.Context { return ctx },
		ErrorLog:    stdlog.New(complaints{log.With("part", "http")}, "", 0),
	}
}

// complaints are those of the HTTP server about its peers. Those that speak no TLS come by the
// thousand where a service stands open, and are of interest only to who looks for them.
type complaints struct{ log *slog.Logger }

func (c complaints) Write(line []byte) (int, error) {
	text, level := strings.TrimSpace(string(line)), slog.LevelWarn
	if strings.Contains(text, "TLS handshake error") {
		level = slog.LevelDebug
	}
	c.log.Log(context.Background(), level, text)
	return len(line), nil
}

func ranges(texts []string) (out []netip.Prefix, err error) {
	for _, text := range texts {
		p, err := netip.ParsePrefix(text)
		if a, addressErr := netip.ParseAddr(text); addressErr == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil {
			return nil, fmt.Errorf("--behind-proxy %q is no address or range of a proxy", text)
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

// crowd lets in so many connections at a time; those beyond are closed at once.
type crowd struct {
	net.Listener
	all, each int

	mu    sync.Mutex
	count int
	open  map[netip.Addr]int
}

func newCrowd(l net.Listener, all, each int) *crowd {
	return &crowd{Listener: l, all: all, each: each, open: map[netip.Addr]int{}}
}

// Accept gives the next connection that is let in.
func (l *crowd) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		from, ok := l.enter(c.RemoteAddr())
		if !ok {
			c.Close()
			continue
		}
		return &visitor{Conn: c, leave: sync.OnceFunc(func() { l.exit(from) })}, nil
	}
}

func (l *crowd) enter(a net.Addr) (from netip.Addr, ok bool) {
	if at, err := netip.ParseAddrPort(a.String()); err == nil {
		from = at.Addr().Unmap()
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.count >= l.all || l.open[from] >= l.each {
		return from, false
	}
	l.count++
	l.open[from]++
	return from, true
}

func (l *crowd) exit(from netip.Addr) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.count--
	if l.open[from]--; l.open[from] == 0 {
		delete(l.open, from)
	}
}

// visitor is a connection that is counted until it is closed.
type visitor struct {
	net.Conn
	leave func()
}

// Close ends the connection.
func (v *visitor) Close() error {
	v.leave()
	return v.Conn.Close()
}

// pair is a certificate with its key, read again when the files change.
type pair struct {
	cert, key string
	log       *slog.Logger

	mu     sync.Mutex
	looked time.Time
	of     [2]time.Time // when the files were written
	now    *tls.Certificate
}

// lookEvery is how long a change of the files may go unnoticed.
const lookEvery = time.Second

func newPair(cert, key string, log *slog.Logger) (*pair, error) {
	if cert == "" || key == "" {
		return nil, errors.New("TLS needs both --tls-cert and --tls-key")
	}
	p := &pair{cert: cert, key: key, log: log}
	return p, p.read()
}

func (p *pair) read() error {
	var of [2]time.Time
	for i, file := range []string{p.cert, p.key} {
		info, err := os.Stat(file)
		if err != nil {
			return fmt.Errorf("read the TLS certificate: %w", err)
		}
		of[i] = info.ModTime()
	}
	if p.now != nil && of == p.of {
		return nil
	}
	c, err := tls.LoadX509KeyPair(p.cert, p.key)
	if err != nil {
		return fmt.Errorf("read the TLS certificate: %w", err)
	}
	if p.now != nil {
		p.log.Info("the TLS certificate was read again", "ends", c.Leaf.NotAfter)
	}
	p.now, p.of = &c, of
	return nil
}

// certificate is the one of now. Where the files cannot be read, as while they are being
// replaced, it stays the one that was read last.
func (p *pair) certificate(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if time.Since(p.looked) > lookEvery {
		p.looked = time.Now()
		if err := p.read(); err != nil {
			p.log.Error("the TLS certificate cannot be read; the one from before is used", "error", err)
		}
	}
	return p.now, nil
}
