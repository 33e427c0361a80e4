package files

import (
	"bytes"
	"context"
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/install"
	"insegna.example/internal/reach"
)

// keysFolder is where the keys lie that were made on the server, in a mandate's folder.
const keysFolder = "keys"

// What the files of a signature end with, while it is made.
const (
	signedEnd    = ".in"
	signatureEnd = ".out"
)

// opensslKinds are what makes a key of a kind of the estate file.
var opensslKinds = map[string]string{
	"":           "EC -pkeyopt ec_paramgen_curve:P-256 -pkeyopt ec_param_enc:named_curve",
	"ecdsa-p256": "EC -pkeyopt ec_paramgen_curve:P-256 -pkeyopt ec_param_enc:named_curve",
	"ecdsa-p384": "EC -pkeyopt ec_paramgen_curve:P-384 -pkeyopt ec_param_enc:named_curve",
	"ecdsa-p521": "EC -pkeyopt ec_paramgen_curve:P-521 -pkeyopt ec_param_enc:named_curve",
	"ed25519":    "ED25519",
	"rsa-2048":   "RSA -pkeyopt rsa_keygen_bits:2048",
	"rsa-3072":   "RSA -pkeyopt rsa_keygen_bits:3072",
	"rsa-4096":   "RSA -pkeyopt rsa_keygen_bits:4096",
}

// folderOf is a mandate's folder on the server.
func (d *Destination) folderOf(mandate string) string {
	return path.Join(path.Dir(d.Main), "insegna", mandate)
}

// MakeKey implements install.Keymaker with the openssl of the server.
func (d *Destination) MakeKey(ctx context.Context, mandate, version, kind string) (crypto.Signer, error) {
	how, known := opensslKinds[kind]
	if !known {
		return nil, &install.FaultError{Words: fmt.Sprintf("unknown kind of key %q", kind),
			Advice: "choose another kind of key in the mandate"}
	}
	folder := d.folderOf(mandate)
	key := &distantKey{d: d, ctx: ctx, at: path.Join(folder, keysFolder, version+".pem")}
	half := path.Join(path.Dir(key.at), "."+version)
	_, err := d.openssl(ctx, "umask 022 && mkdir -p -- "+reach.Quoted(folder)+" && mkdir -p -m 700 -- "+reach.Quoted(path.Dir(key.at))+
		" && umask 077 && { test -s "+reach.Quoted(key.at)+" || { openssl genpkey -algorithm "+how+" -out "+reach.Quoted(half)+
		" && { sync -- "+reach.Quoted(half)+" || sync; } && mv -T -- "+reach.Quoted(half)+" "+reach.Quoted(key.at)+"; }; }")
	if err != nil {
		return nil, err
	}
	key.public, err = d.publicHalf(ctx, key.at)
	return key, err
}

// DropKey implements install.Keymaker.
func (d *Destination) DropKey(ctx context.Context, mandate, version string) (there bool, err error) {
	folder := d.folderOf(mandate)
	if there, err = d.exists(path.Join(folder, keysFolder, version+".pem")); err != nil {
		return false, err
	}
	half := path.Join(keysFolder, "."+version)
	_, err = d.run(ctx, "cd "+reach.Quoted(folder)+" 2>/dev/null || exit 0; rm -f -- "+reach.Quoted(path.Join(keysFolder, version+".pem"))+" "+
		reach.Quoted(half)+" "+reach.Quoted(half+signedEnd)+" "+reach.Quoted(half+signatureEnd)+" || exit 1; find "+
		keysFolder+" -name "+reach.Quoted(install.KeyTrial+"*")+" -mmin +60 -delete 2>/dev/null; if [ \"$(readlink now)\" != "+reach.Quoted("versions/"+version)+
		" ]; then rm -rf -- "+reach.Quoted("versions/"+version)+" || exit 1; fi; rmdir -- "+keysFolder+" versions "+reach.Quoted(folder)+" "+
		reach.Quoted(path.Dir(folder))+" 2>/dev/null; true")
	return there, err
}

// openssl runs a script that uses openssl on the server.
func (d *Destination) openssl(ctx context.Context, script string) (string, error) {
	out, err := d.run(ctx, "command -v openssl >/dev/null || exit 127; "+script)
	var f *install.FaultError
	if errors.As(err, &f) && strings.TrimSpace(f.Said) == "" {
		return "", &install.FaultError{Words: "there is no openssl on the server, which makes the key there",
			Advice: "install it there, or leave key_on out of the mandate"}
	}
	return out, err
}

// publicHalf is the public half of a key on the server.
func (d *Destination) publicHalf(ctx context.Context, at string) (crypto.PublicKey, error) {
	out, err := d.openssl(ctx, "openssl pkey -in "+reach.Quoted(at)+" -pubout")
	if err != nil {
		return nil, err
	}
	if b, _ := pem.Decode([]byte(out)); b != nil {
		if key, err := x509.ParsePKIXPublicKey(b.Bytes); err == nil {
			return key, nil
		}
	}
	return nil, &install.FaultError{Words: "openssl does not give the public half of " + at + ": " + oneLine(out),
		Advice: "see that file on the server"}
}

// distantKey signs on the server its key lies on.
type distantKey struct {
	d      *Destination
	ctx    context.Context // of whoever wants it signed
	at     string          // file
	public crypto.PublicKey
}

// Public implements crypto.Signer.
func (k *distantKey) Public() crypto.PublicKey { return k.public }

// Sign implements crypto.Signer: RSA as PKCS #1 v1.5, and ECDSA, sign a digest, Ed25519 the
// message itself.
func (k *distantKey) Sign(_ io.Reader, digest []byte, opts crypto.SignerOpts) ([]byte, error) {
	how := "-rawin"
	if h := opts.HashFunc(); h != 0 {
		how = "-pkeyopt digest:" + strings.ToLower(strings.ReplaceAll(h.String(), "-", ""))
	}
	dir, name := path.Split(strings.TrimSuffix(k.at, ".pem"))
	in, signature := dir+"."+name+signedEnd, dir+"."+name+signatureEnd
	if err := k.d.Over.Write(in, digest, reach.Attributes{Mode: 0o600}); err != nil {
		return nil, err
	}
	out, err := k.d.openssl(k.ctx, fmt.Sprintf("cd %s && openssl pkeyutl -sign -inkey %s -in %s %s -out %s "+
		"&& openssl base64 -A -in %s; e=$?; rm -f -- %s %s; exit $e", reach.Quoted(dir), reach.Quoted(k.at), reach.Quoted(in), how, reach.Quoted(signature), reach.Quoted(signature), reach.Quoted(in), reach.Quoted(signature)))
	if err != nil {
		return nil, err
	}
	made, err := base64.StdEncoding.DecodeString(strings.TrimSpace(out))
	if err != nil {
		return nil, &install.FaultError{Words: "openssl does not give a signature: " + oneLine(out),
			Advice: "see the openssl of the server"}
	}
	return made, nil
}

// takeKey lays a key that was made on the server beside the certificates of its version:
// it has to be theirs, and goes no other way.
func (d *Destination) takeKey(ctx context.Context, l *layout, chain []byte) error {
	at := l.in(keysFolder, l.Version+".pem")
	there, err := d.exists(at)
	if err != nil {
		return err
	} else if !there {
		return &install.FaultError{Words: at + ", the key that was made for it there, is gone",
			Advice: "order it anew: insegna mandate order " + path.Base(l.Folder)}
	}
	public, err := d.publicHalf(ctx, at)
	if err != nil {
		return err
	}
	list, err := certs.ReadCertificates(chain)
	if err != nil {
		return err
	}
	spki, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return err
	}
	if len(list) == 0 || !bytes.Equal(spki, list[0].RawSubjectPublicKeyInfo) {
		return &install.FaultError{Words: at + " is another key than the certificate's",
			Advice: "order it anew: insegna mandate order " + path.Base(l.Folder)}
	}
	half := l.staged("." + l.Key)
	fill := "cp -- " + reach.Quoted(at) + " " + reach.Quoted(half)
	if l.Combined {
		open := l.staged("." + certificatesFile)
		if err := d.Over.Write(open, append(bytes.TrimRight(chain, "\n"), '\n'), reach.Attributes{Mode: 0o600}); err != nil {
			return err
		}
		fill = "cat -- " + reach.Quoted(open) + " " + reach.Quoted(at) + " > " + reach.Quoted(half) + " && rm -f -- " + reach.Quoted(open)
	}
	_, err = d.run(ctx, "umask 077 && "+fill+" && chmod 600 -- "+reach.Quoted(half)+" && mv -T -- "+reach.Quoted(half)+" "+
		reach.Quoted(l.staged(l.Key)))
	return err
}
