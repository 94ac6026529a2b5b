package upstream

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	pkcs12 "software.sslmate.com/src/go-pkcs12"
)

// Authority is a project's own certificate authority, for calls that go through a proxy: it can vouch for the hosts of
// the project's upstreams alone (RFC 5280 §4.2.1.10), and no system trusts it. Only functions that are started here
// get it.
type Authority struct {
	dir   string
	cert  *x509.Certificate
	key   *ecdsa.PrivateKey
	mu    sync.Mutex
	made  map[string]*tls.Certificate // by host
	hosts []string
}

// How long what an authority signs is valid: it is made anew long before.
const (
	validFor  = 365 * 24 * time.Hour
	remaining = 30 * 24 * time.Hour
)

// OpenAuthority opens the authority in a folder of the project for some hosts; it is made where there is none for them.
func OpenAuthority(folder string, hosts []string) (*Authority, error) {
	hosts = slices.Clone(hosts)
	slices.Sort(hosts)
	hosts = slices.Compact(hosts)
	a := &Authority{dir: filepath.Join(folder, "authority"), hosts: hosts, made: map[string]*tls.Certificate{}}
	if err := os.MkdirAll(a.dir, 0o700); err != nil {
		return nil, err
	}
	if a.read() == nil && a.serves() {
		return a, nil
	}
	if err := a.make(); err != nil {
		return nil, fmt.Errorf("the project's certificate authority cannot be made: %w", err)
	}
	return a, nil
}

func (a *Authority) path(name string) string { return filepath.Join(a.dir, name) }

// read reads the authority that is there.
func (a *Authority) read() error {
	pair, err := tls.LoadX509KeyPair(a.path("authority.pem"), a.path("authority.key"))
	if err != nil {
		return err
	}
	key, ok := pair.PrivateKey.(*ecdsa.PrivateKey)
	if !ok {
		return errors.New("not a key of ours")
	}
	if info, err := os.Stat(a.path("authority.key")); err != nil || info.Mode().Perm() != 0o600 {
		return errors.New("its key can be read by others")
	}
	a.cert, a.key = pair.Leaf, key
	return nil
}

// serves reports whether the authority that was read is for the hosts, and valid for a while.
func (a *Authority) serves() bool {
	names, addresses := a.names()
	var ranges []string
	for _, r := range a.cert.PermittedIPRanges {
		ranges = append(ranges, r.String())
	}
	var wanted []string
	for _, r := range addresses {
		wanted = append(wanted, r.String())
	}
	return slices.Equal(a.cert.PermittedDNSDomains, names) && slices.Equal(ranges, wanted) &&
		time.Until(a.cert.NotAfter) > remaining
}

// names returns the hosts as names and as ranges of one address.
func (a *Authority) names() (names []string, addresses []*net.IPNet) {
	for _, h := range a.hosts {
		ip := net.ParseIP(h)
		switch {
		case ip == nil:
			names = append(names, h)
		case ip.To4() != nil:
			addresses = append(addresses, &net.IPNet{IP: ip.To4(), Mask: net.CIDRMask(32, 32)})
		default:
			addresses = append(addresses, &net.IPNet{IP: ip, Mask: net.CIDRMask(128, 128)})
		}
	}
	return names, addresses
}

// all are the addresses of both kinds.
var all = []*net.IPNet{{IP: net.IPv4zero.To4(), Mask: net.CIDRMask(0, 32)}, {IP: net.IPv6zero, Mask: net.CIDRMask(0,
	128)}}

// make makes a new authority.
func (a *Authority) make() (err error) {
	if a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return err
	}
	names, addresses := a.names()
	t := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "Night Drill, for one project"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(validFor), IsCA: true,
		BasicConstraintsValid: true, MaxPathLenZero: true, KeyUsage: x509.KeyUsageCertSign,
		PermittedDNSDomainsCritical: true, PermittedDNSDomains: names, PermittedIPRanges: addresses}
	if len(addresses) == 0 { // a kind of name without any constraint would be free
		t.ExcludedIPRanges = all
	}
	if len(names) == 0 {
		t.ExcludedDNSDomains = []string{"."}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, a.key.Public(), a.key)
	if err != nil {
		return err
	}
	if a.cert, err = x509.ParseCertificate(der); err != nil {
		return err
	}
	key, err := x509.MarshalPKCS8PrivateKey(a.key)
	if err != nil {
		return err
	}
	if err := write(a.path("authority.key"), "PRIVATE KEY", key, 0o600); err != nil {
		return err
	}
	return write(a.path("authority.pem"), "CERTIFICATE", der, 0o644)
}

func write(path, kind string, der []byte, mode fs.FileMode) error {
	_ = os.Remove(path) // so that the mode is that of a new file
	return os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), mode)
}

func serial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return big.NewInt(time.Now().UnixNano())
	}
	return n
}

// For returns a certificate for one of the hosts.
func (a *Authority) For(host string) (*tls.Certificate, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if c := a.made[host]; c != nil {
		return c, nil
	}
	if !slices.Contains(a.hosts, host) {
		return nil, fmt.Errorf("%s is not the host of an upstream", host)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: host},
		NotBefore: a.cert.NotBefore, NotAfter: a.cert.NotAfter, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	if ip := net.ParseIP(host); ip != nil {
		t.IPAddresses = []net.IP{ip}
	} else {
		t.DNSNames = []string{host}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, a.cert, key.Public(), a.key)
	if err != nil {
		return nil, err
	}
	c := &tls.Certificate{Certificate: [][]byte{der, a.cert.Raw}, PrivateKey: key}
	a.made[host] = c
	return c, nil
}

// systemRoots are the files in which systems keep the certificates that they trust.
var systemRoots = []string{"/etc/ssl/certs/ca-certificates.crt", "/etc/pki/tls/certs/ca-bundle.crt",
	"/etc/ssl/ca-bundle.pem", "/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem", "/etc/ssl/cert.pem"}

// Trust is the files by which programs are told whom to trust.
type Trust struct {
	Own    string // the authority alone
	Bundle string // what the system trusts, and the authority, as PEM
	Store  string // likewise as PKCS #12, for Java
}

// StorePassword is the password of the store; it protects nothing.
const StorePassword = "changeit"

// Trust writes the files, unless they are as they should be.
func (a *Authority) Trust() (Trust, error) {
	t := Trust{Own: a.path("authority.pem"), Bundle: a.path("bundle.pem"), Store: a.path("bundle.p12")}
	var roots []byte
	for _, path := range systemRoots {
		if text, err := os.ReadFile(path); err == nil {
			roots = text
			break
		}
	}
	own := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.cert.Raw})
	text := slices.Concat(roots, []byte("\n"), own)
	sum := sha256.Sum256(text)
	mark := hex.EncodeToString(sum[:])
	if was, err := os.ReadFile(a.path("bundle.sum")); err == nil && strings.TrimSpace(string(was)) == mark {
		return t, nil
	}
	if err := os.WriteFile(t.Bundle, text, 0o644); err != nil {
		return t, err
	}
	var certs []*x509.Certificate
	for rest := text; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if c, err := x509.ParseCertificate(block.Bytes); err == nil && block.Type == "CERTIFICATE" {
			certs = append(certs, c)
		}
	}
	store, err := pkcs12.Modern.EncodeTrustStore(certs, StorePassword)
	if err != nil {
		return t, err
	}
	if err := os.WriteFile(t.Store, store, 0o644); err != nil {
		return t, err
	}
	return t, os.WriteFile(a.path("bundle.sum"), []byte(mark+"\n"), 0o644)
}
