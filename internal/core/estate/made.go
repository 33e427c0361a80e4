package estate

import (
	"slices"
	"time"
)

// Made is a host that was taken in here, and is no file's.
type Made struct {
	Host Host      `json:"host"` // with who has taken it in
	At   time.Time `json:"at"`   // in UTC
	// Found says that nobody has asked for it: its servers are to have all hosts watched that
	// they have sites for
	Found bool `json:"found,omitempty"`
}

// Take adds hosts that were taken in here to what a file declares, and gives those that
// have no place there: the file declares them itself, or not the servers they are at.
func (e *Estate) Take(list []Made) (left []Made) {
	for _, m := range list {
		gone := slices.ContainsFunc(m.Host.At, func(ref Ref) bool {
			s := e.Server(ref.Server)
			return s == nil || ref.Port != 0 && !s.AnswersAt(ref.Port) || m.Found && !s.AllHosts
		})
		strange := slices.ContainsFunc(m.Host.Audiences, func(name string) bool {
			return !slices.ContainsFunc(e.Audiences, func(a Audience) bool { return a.Name == name })
		})
		b := &m.Host
		strange = strange || b.Group != "" && e.Group(b.Group) == nil || b.Owner != "" && e.OwnerNamed(b.Owner) == nil
		if gone || strange || e.Host(m.Host.Name) != nil {
			left = append(left, m)
			continue
		}
		e.Hosts = append(e.Hosts, m.Host)
	}
	return left
}

// ParseHost reads one host, written as in an estate file or as JSON, against an estate.
// The error is of type Errors.
func ParseHost(data []byte, e *Estate) (*Host, error) {
	r := &reader{file: "host", estate: &Estate{Audiences: e.Audiences, Servers: e.Servers, Owner: e.Owner, Owners: e.Owners, Groups: e.Groups}, alone: true}
	if len(data) > 1<<20 {
		return nil, Errors{{Place{File: r.file}, "it is larger than 1 MB", ""}}
	}
	root, err := r.document(data)
	if err == nil {
		r.host(root)
		servers, audiences := map[string]int{}, map[string]int{}
		for i := range e.Servers {
			servers[e.Servers[i].Name] = i
		}
		for i := range e.Audiences {
			audiences[e.Audiences[i].Name] = i
		}
		r.resolveHosts(audiences, servers)
		r.resolveBelonging()
	}
	if len(r.errs) > 0 {
		return nil, r.errs
	}
	h := &r.estate.Hosts[0]
	h.Place = Place{}
	return h, nil
}
