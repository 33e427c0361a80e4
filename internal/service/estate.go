package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/core/trust"
	"insegna.example/internal/store"
)

// Declaring is the room of the estate: the file that declares it, what is in
// force, and the judge of what it says.
type Declaring struct {
	base

	applied  func()     // what is worked out from the estate is forgotten
	taking   sync.Mutex // held while hosts are taken in by themselves
	drafting sync.Mutex // held while an estate is drafted

	mu       sync.Mutex     // guards judge and declared
	judged   int64          // declaration the judge was made for
	judge    *check.Judge   // for the declaration in force
	parsed   int64          // declaration the estate was parsed from
	declared *estate.Estate // the estate in force
}

// EstateFile is an estate file with the certificate files it mentions.
type EstateFile struct {
	Name        string            // said in errors and kept as the origin of what it declares
	Text        []byte            // of the file; nothing where several declare the estate together
	Parts       []estate.Text     // those, by name; then Name is their folder
	Attachments map[string][]byte // by the path written in the file
}

// LoadEstateFile reads an estate file, or the files of a folder that are called *.yaml or
// *.yml, and what they mention; paths in them are relative to them. Files that cannot be read
// are told by the parser, with the line that mentions them.
func LoadEstateFile(path string, read func(string) ([]byte, error)) (*EstateFile, error) {
	f := &EstateFile{Name: path, Attachments: map[string][]byte{}}
	dir := path
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		if err := f.loadParts(path, read); err != nil {
			return nil, err
		}
	} else {
		if f.Text, err = read(path); err != nil {
			return nil, fmt.Errorf("cannot read the estate file: %w", err)
		}
		dir = filepath.Dir(path)
	}
	for _, t := range f.texts() {
		for _, mentioned := range estate.Mentioned(t.Data) {
			at := mentioned
			if !filepath.IsAbs(at) {
				at = filepath.Join(dir, at)
			}
			if data, err := read(at); err == nil {
				f.Attachments[mentioned] = data
			}
		}
	}
	return f, nil
}

// attachmentLimit is the most a certificate file may hold, in bytes.
const attachmentLimit = 4 << 20

// AttachHere brings along what a file mentions and was not sent with it: as it is in force, or,
// where it has a whole path, as it is on the service's machine. Who may apply an estate decides
// what the service reads there anyway.
func (s *Declaring) AttachHere(ctx context.Context, f *EstateFile) error {
	if err := Permit(ctx, "applyEstate"); err != nil {
		return err
	}
	before, err := s.store.Declared(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	for _, t := range f.texts() {
		for _, path := range estate.Mentioned(t.Data) {
			if _, sent := f.Attachments[path]; sent {
				continue
			}
			if before != nil && before.Files[path] != nil {
				f.Attachments[path] = before.Files[path]
			} else if info, err := os.Stat(path); filepath.IsAbs(path) && err == nil && info.Mode().IsRegular() && info.Size() <= attachmentLimit {
				if data, err := os.ReadFile(path); err == nil {
					f.Attachments[path] = data
				}
			}
		}
	}
	return nil
}

// partsMost is how many files may declare an estate together.
const partsMost = 500

// loadParts reads the estate files of a folder, in the order of their names.
func (f *EstateFile) loadParts(dir string, read func(string) ([]byte, error)) error {
	list, err := os.ReadDir(dir)
	if err != nil {
		return fmt.Errorf("cannot read the folder of estate files: %w", err)
	}
	for _, entry := range list {
		if ext := filepath.Ext(entry.Name()); entry.IsDir() || strings.HasPrefix(entry.Name(), ".") || ext != ".yaml" && ext != ".yml" {
			continue
		}
		at := filepath.Join(dir, entry.Name())
		text, err := read(at)
		if err != nil {
			return fmt.Errorf("cannot read an estate file: %w", err)
		}
		if f.Parts = append(f.Parts, estate.Text{File: at, Data: text}); len(f.Parts) > partsMost {
			return fmt.Errorf("%s has more than %d estate files", dir, partsMost)
		}
	}
	if len(f.Parts) == 0 {
		return fmt.Errorf("the folder %s has no estate file; expected files called *.yaml", dir)
	}
	return nil
}

// texts are its files.
func (f *EstateFile) texts() []estate.Text {
	if len(f.Parts) > 0 {
		return f.Parts
	}
	return []estate.Text{{File: f.Name, Data: f.Text}}
}

// Parse reads the file. The error is an estate.Errors.
func (f *EstateFile) Parse(kinds estate.Kinds) (*estate.Estate, error) {
	e, err := estate.ParseAll(f.texts(), kinds, func(path string) ([]byte, error) {
		if data, ok := f.Attachments[path]; ok {
			return data, nil
		}
		return nil, errors.New("no such file, or not readable")
	})
	if err != nil {
		return nil, err
	}
	return e, mendable(e)
}

// mendable says which codes of an estate's rules do not mend themselves.
func mendable(e *estate.Estate) error {
	var errs estate.Errors
	for i := range e.Mending {
		m := &e.Mending[i]
		for _, code := range m.Codes {
			switch rule := check.RuleOf(check.Code(code)); {
			case rule.Code == "":
				errs = append(errs, &estate.Error{Place: m.Place, Message: fmt.Sprintf("no finding has the code %q", code),
					Expected: "codes as insegna finding catalogue lists them"})
			case !rule.Mends.OnServer():
				errs = append(errs, &estate.Error{Place: m.Place, Message: code + " does not mend itself on its server alone",
					Expected: "codes of what mends with what lies on the server, such as not-reloaded"})
			}
		}
	}
	if len(errs) > 0 {
		return errs
	}
	return nil
}

// EstateChanges are what applying a file changes or has changed.
type EstateChanges struct {
	Estate   string          // its name
	File     string          // the changes come from
	Replaces string          // the file applied before, when it has another name
	Changes  []estate.Change // new, changed, gone
	Applied  bool            // false for a preview
	made     []estate.Made   // that stay beside the file
}

// PreviewEstate says what applying a file would change.
func (s *Declaring) PreviewEstate(ctx context.Context, f *EstateFile) (*EstateChanges, error) {
	changes, _, err := s.preview(ctx, f)
	return changes, err
}

// kept are hosts that were taken in here and stay beside what a file declares.
func kept(list []estate.Made, next *estate.Estate) (out []estate.Made) {
	left := next.Take(list)
	for _, m := range list {
		if !slices.ContainsFunc(left, func(o estate.Made) bool { return o.Host.Name == m.Host.Name }) {
			out = append(out, m)
		}
	}
	return out
}

// preview compares a file with what is in force. The first estate is all new. Hosts that
// were taken in here stay, but for those the file declares itself, or whose servers it
// declares no more.
func (s *Declaring) preview(ctx context.Context, f *EstateFile) (*EstateChanges, *estate.Estate, error) {
	next, err := f.Parse(s.cfg.Kinds.Declared())
	if err != nil {
		return nil, nil, err
	}
	out := &EstateChanges{Estate: next.Name, File: f.Name}
	before, err := s.store.Declared(ctx)
	if errors.Is(err, store.ErrNotFound) {
		out.Changes = estate.Diff(nil, next)
		return out, next, nil
	}
	if err != nil {
		return nil, nil, err
	}
	if before.File != f.Name {
		out.Replaces = before.File
	}
	was, err := before.Estate(s.cfg.Kinds.Declared())
	if err != nil {
		return nil, nil, err
	}
	out.made = kept(before.Made, next)
	out.Changes = estate.Diff(was, next)
	return out, next, nil
}

// ApplyEstate puts a file in force, in one transaction.
func (s *Declaring) ApplyEstate(ctx context.Context, f *EstateFile) (*EstateChanges, error) {
	changes, next, err := s.preview(ctx, f)
	if err != nil {
		return nil, err
	}
	d := &store.Declaration{Name: next.Name, File: f.Name, Content: f.Text, Parts: f.Parts, Files: f.Attachments, Made: changes.made,
		AppliedAt: s.cfg.Clock().UTC()}
	d.Act = &store.Act{Actor: actor(ctx), Action: "estate.apply", Subject: f.Name, Detail: actDetail(changes)}
	changes.Applied, err = s.store.Apply(ctx, d, next)
	s.applied()
	return changes, err
}

// actDetail says for the journal what applying a file changes.
func actDetail(c *EstateChanges) map[string]any {
	counts := map[string]int{}
	for _, change := range c.Changes {
		counts[change.Is]++
	}
	return map[string]any{"estate": c.Estate, "replaces": c.Replaces, "new": counts["new"], "changed": counts["changed"],
		"gone": counts["gone"]}
}

// Declared gives the estate in force with its declaration; ErrNoEstate when
// there is none.
func (s *Declaring) Declared(ctx context.Context) (*store.Declaration, *estate.Estate, error) {
	d, err := s.store.Declared(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, ErrNoEstate
	}
	if err != nil {
		return nil, nil, err
	}
	e, err := d.Estate(s.cfg.Kinds.Declared())
	return d, e, err
}

// currentJudge gives the judge for the declaration in force, made once for
// each: its audiences, and the intermediates declared. What other servers were
// seen to send is left out, so that a verdict does not depend on it.
func (s *Declaring) currentJudge(ctx context.Context) (*check.Judge, error) {
	e, id, err := s.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.judge != nil && s.judged == id {
		return s.judge, nil
	}
	s.judge, s.judged = check.NewJudge(Audiences(e), chain.NewKnown(e.Intermediates...)), id
	return s.judge, nil
}

// estateInForce gives the estate in force with its number, parsed once for
// each declaration. It is not to be changed.
func (s *Declaring) estateInForce(ctx context.Context) (*estate.Estate, int64, error) {
	id, err := s.store.DeclaredID(ctx)
	if err != nil {
		return nil, 0, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.declared != nil && s.parsed == id {
		return s.declared, id, nil
	}
	d, err := s.store.Declared(ctx)
	if err != nil {
		return nil, 0, err
	}
	e, err := d.Estate(s.cfg.Kinds.Declared())
	if err != nil {
		return nil, 0, err
	}
	s.declared, s.parsed = e, d.ID
	return e, d.ID, nil
}

// Audiences makes the trust view of an estate's audiences.
func Audiences(e *estate.Estate) []*trust.Audience {
	list := make([]*trust.Audience, len(e.Audiences))
	for i, a := range e.Audiences {
		list[i] = trust.NewAudience(a.Name, a.Public, a.Anchors)
	}
	return list
}

// ErrNoEstate says that nothing has been applied yet.
var ErrNoEstate = fault.New(fault.NotNow, "No estate",
	"no estate has been applied yet; write an estate file and run: insegna estate apply FILE",
	"apply an estate file first")
