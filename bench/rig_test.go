package bench_test

import (
	"bufio"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"strconv"
	"sync/atomic"
	"time"
)

// authority issues the rig's certificates: a root and one intermediate.
type authority struct {
	root, ca *x509.Certificate
	key      crypto.Signer
	serial   atomic.Int64
}

func newAuthority() (*authority, error) {
	rootKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	a := &authority{key: key}
	if a.root, err = certify("Bench Root", nil, nil, rootKey, rootKey.Public(), 1); err != nil {
		return nil, err
	}
	a.ca, err = certify("Bench CA", nil, a.root, rootKey, key.Public(), 2)
	a.serial.Store(100)
	return a, err
}

func (a *authority) leaf(host string, key crypto.PublicKey) (*x509.Certificate, error) {
	return certify(host, []string{host}, a.ca, a.key, key, a.serial.Add(1))
}

// begun is when every certificate of a run begins, so that none is older.
var begun = time.Now()

func certify(name string, hosts []string, by *x509.Certificate, signer crypto.Signer, key crypto.PublicKey,
	serial int64) (*x509.Certificate, error) {
	t := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: name}, DNSNames: hosts,
		NotBefore: begun.Add(-time.Hour), NotAfter: begun.Add(80 * 24 * time.Hour), BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature}
	if hosts == nil {
		t.IsCA, t.KeyUsage, t.NotAfter = true, x509.KeyUsageCertSign, time.Now().Add(1000*24*time.Hour)
	} else {
		t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	}
	if by == nil {
		by = t
	}
	der, err := x509.CreateCertificate(rand.Reader, t, by, key, signer)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// rig is the process that answers: endpoints on FIRST port and the COUNT-1
// after it, at every loopback address, each with a certificate of its own for
// the name asked. Ports below SILENT only accept. Its root goes to stdout.
func rig(args []string) {
	first, count, silent := atoi(args[0]), atoi(args[1]), atoi(args[2])
	a, err := newAuthority()
	if err != nil {
		panic(err)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	cfg := &tls.Config{GetCertificate: prepared(a, key, first, count, silent)}
	for p := first; p < first+count; p++ {
		l, err := net.Listen("tcp4", ":"+strconv.Itoa(p))
		if err != nil {
			panic(err)
		}
		go answer(l, cfg, p < silent)
	}
	fmt.Println(string(a.pem()))
	_, _ = os.Stdin.Read(make([]byte, 1)) // until the bench ends, however it does
}

// prepared makes the certificates of the names that will be asked beforehand,
// so that issuing does not count; names beyond that are issued when asked.
func prepared(a *authority, key *ecdsa.PrivateKey, first, count,
	silent int) func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	issue := func(host string) (*tls.Certificate, error) {
		leaf, err := a.leaf(host, key.Public())
		if err != nil {
			return nil, err
		}
		return &tls.Certificate{Certificate: [][]byte{leaf.Raw, a.ca.Raw}, PrivateKey: key, Leaf: leaf}, nil
	}
	ready := map[string]*tls.Certificate{}
	for p := max(first, silent); p < first+count && count <= 500; p++ {
		for n := range preparedAddresses {
			c, err := issue(hostAt(n, p))
			if err != nil {
				panic(err)
			}
			ready[hostAt(n, p)] = c
		}
	}
	return func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
		if c := ready[h.ServerName]; c != nil {
			return c, nil
		}
		return issue(h.ServerName)
	}
}

// preparedAddresses is for how many addresses certificates are made beforehand.
const preparedAddresses = 20

// hostAt is the host wanted at an address (by number) and port.
func hostAt(n, port int) string { return fmt.Sprintf("h%d-%d.lantern.example", n, port) }

func addressAt(n int) string { return fmt.Sprintf("127.40.%d.%d", n/250, n%250+1) }

func answer(l net.Listener, cfg *tls.Config, silent bool) {
	for {
		conn, err := l.Accept()
		if err != nil {
			fmt.Fprintln(os.Stderr, "rig:", err)
			time.Sleep(10 * time.Millisecond)
			continue
		}
		if remote, ok := conn.RemoteAddr().(*net.TCPAddr); !ok || !remote.IP.IsLoopback() {
			_ = conn.Close()
			continue
		}
		go func() {
			defer func() { _ = conn.Close() }()
			if silent {
				_, _ = conn.Read(make([]byte, 4096))
				_, _ = conn.Read(make([]byte, 1))
				return
			}
			tc := tls.Server(conn, cfg)
			if err := tc.Handshake(); err != nil {
				fmt.Fprintln(os.Stderr, "rig:", conn.LocalAddr(), err)
				return
			}
			_, _ = tc.Read(make([]byte, 1))
		}()
	}
}

// startRig starts the rig process and gives its root as PEM.
func startRig(first, count, silent int) (root string, stop func(), err error) {
	self, err := os.Executable()
	if err != nil {
		return "", nil, err
	}
	cmd := exec.Command(self, "rig", strconv.Itoa(first), strconv.Itoa(count), strconv.Itoa(silent))
	cmd.Stderr = os.Stderr
	stdin, err := cmd.StdinPipe()
	if err != nil {
		return "", nil, err
	}
	stdout, err := cmd.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	lines := bufio.NewScanner(stdout)
	for lines.Scan() && lines.Text() != "" {
		root += lines.Text() + "\n"
	}
	if root == "" {
		return "", nil, fmt.Errorf("the rig did not start on ports %d to %d; is another bench running?", first, first+count-1)
	}
	return root, func() { _ = stdin.Close(); _ = cmd.Wait() }, nil
}

func atoi(s string) int {
	n, err := strconv.Atoi(s)
	if err != nil {
		panic(err)
	}
	return n
}
