package service

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"net"
	"os"
	"time"

	"synaxis/internal/core/wire"
	"synaxis/internal/service/certificates"
)

// autoTLS makes (once) an authority in the data folder and a certificate for the names of this machine and those of
// names. The certificate is made anew at each start; what agents pin is the authority.
func autoTLS(ca *certificates.Authority, names []string, now time.Time) (tls.Certificate, string, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, "", err
	}
	t := &x509.Certificate{
		SerialNumber: certificates.Serial(),
		Subject:      pkix.Name{CommonName: "Synaxis service"},
		NotBefore:    now.Add(-time.Hour),
		NotAfter:     now.AddDate(1, 0, 0),
		KeyUsage:     x509.KeyUsageDigitalSignature,
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	host, err := os.Hostname()
	if err == nil {
		names = append(names, host)
	}
	addrs, err := net.InterfaceAddrs()
	if err != nil {
		return tls.Certificate{}, "", err
	}
	for _, a := range addrs {
		if ip, ok := a.(*net.IPNet); ok {
			t.IPAddresses = append(t.IPAddresses, ip.IP)
		}
	}
	certificates.AddNames(t, append(names, "localhost"))
	der, authority, err := ca.Sign(t, &key.PublicKey)
	if err != nil {
		return tls.Certificate{}, "", err
	}
	return tls.Certificate{Certificate: [][]byte{der, authority}, PrivateKey: key}, wire.Fingerprint(authority), nil
}
