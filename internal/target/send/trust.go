package send

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"os"

	"obiter/internal/core/usage"
)

// maxPEM bounds a file of certificates, in bytes.
const maxPEM = 16 << 20

// readPEM reads a file of certificates or keys, and nothing that has no end.
func readPEM(name string) ([]byte, error) {
	const hint = "name a PEM file"
	info, err := os.Stat(name)
	switch {
	case err != nil:
		return nil, usage.New(fmt.Sprintf("cannot read the certificates in %s: %v", name, errors.Unwrap(err)), hint)
	case !info.Mode().IsRegular():
		return nil, usage.New("cannot read the certificates in "+name+": it is not a regular file", hint)
	case info.Size() > maxPEM:
		return nil, usage.New(fmt.Sprintf("cannot read the certificates in %s: it has more than %d MiB", name, maxPEM>>20), hint)
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, usage.New(fmt.Sprintf("cannot read the certificates in %s: %v", name, errors.Unwrap(err)), hint)
	}
	return text, nil
}

// Trust is how certificates are checked: those in the file ca are trusted beside the machine's own,
// cert and key are what Obiter shows of itself; insecure checks nothing. Nil where nothing is said.
func Trust(ca, cert, key string, insecure bool) (*tls.Config, error) {
	if (cert == "") != (key == "") {
		return nil, usage.New("one of --cert and --key is missing", "a client certificate is both")
	}
	if ca == "" && cert == "" && !insecure {
		return nil, nil
	}
	trust := &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: insecure}
	if ca != "" {
		pem, err := readPEM(ca)
		if err != nil {
			return nil, err
		}
		if trust.RootCAs, err = x509.SystemCertPool(); err != nil {
			trust.RootCAs = x509.NewCertPool()
		}
		if !trust.RootCAs.AppendCertsFromPEM(pem) {
			return nil, usage.New(ca+" holds no certificate", "name a PEM file, which begins with -----BEGIN CERTIFICATE-----")
		}
	}
	if cert != "" {
		certificate, err := readPEM(cert)
		if err != nil {
			return nil, err
		}
		private, err := readPEM(key)
		if err != nil {
			return nil, err
		}
		pair, err := tls.X509KeyPair(certificate, private)
		if err != nil {
			return nil, usage.New(fmt.Sprintf("cannot read the client certificate %s with the key %s: %v", cert, key, err), "name two PEM files that belong together")
		}
		trust.Certificates = []tls.Certificate{pair}
	}
	return trust, nil
}
