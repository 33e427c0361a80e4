package source

import (
	"io/fs"
	"path"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/kind"
)

// Limits of the CAs a server verifies those behind it with.
const (
	trustFiles = 500 // of one folder
	trustBytes = 4 << 20
)

// Trust reads the CAs that the hops of a reading are verified with: a file, or a
// folder of them. The error is one of the source itself.
func Trust(fsys fs.FS, out *kind.Reading) error {
	out.Trusted = map[string]*kind.Trusted{}
	for i := range out.Sites {
		for _, h := range out.Sites[i].Hops {
			if h.Trust == "" || out.Trusted[h.Trust] != nil {
				continue
			}
			t, err := trusted(fsys, h.Trust)
			if err != nil {
				return err
			}
			out.Trusted[h.Trust] = t
		}
	}
	return nil
}

// trusted reads a file of CAs, or each file of a folder.
func trusted(fsys fs.FS, file string) (*kind.Trusted, error) {
	list := []string{file}
	if entries, err := fs.ReadDir(fsys, InFS(file)); err == nil {
		list = nil
		for _, e := range entries[:min(len(entries), trustFiles)] {
			list = append(list, path.Join(file, e.Name()))
		}
	}
	t := &kind.Trusted{}
	met := map[certs.Fingerprint]bool{}
	for _, p := range list {
		data, _, err := ReadFile(fsys, p, trustBytes)
		if kind.Lost(err) {
			return nil, err
		}
		if err != nil {
			if len(list) == 1 {
				t.Fault = err.Error()
			}
			continue
		}
		found, _ := certs.ReadCertificates(data)
		for _, c := range found {
			if !met[c.Fingerprint] {
				met[c.Fingerprint] = true
				t.Certificates = append(t.Certificates, c)
			}
		}
	}
	return t, nil
}
