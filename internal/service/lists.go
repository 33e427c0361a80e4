package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"

	"insegna.example/internal/core/journal"
	"insegna.example/internal/store"
)

// Records as they are kept, for those who show them.
type (
	Page              = store.Page
	Scope             = store.Scope
	Survey            = store.Survey
	Change            = store.Change
	Event             = store.Event
	Binding           = store.Binding
	BindingFilter     = store.BindingFilter
	VerdictCounts     = store.VerdictCounts
	Certificate       = store.Certificate
	CertificateFilter = store.CertificateFilter
	Finding           = store.Finding
	FindingFilter     = store.FindingFilter
	Server            = store.Server
	ServerFilter      = store.ServerFilter
	Account           = store.Account
	Credential        = store.Credential
	Declaration       = store.Declaration
	Order             = store.Order
	Person            = store.Person
	Token             = store.Token
)

// Errors of records.
var (
	ErrNotFound = store.ErrNotFound
	ErrCursor   = store.ErrCursor
)

// Finished is the state of a survey that has ended.
const Finished = store.Finished

// Bindings lists bindings and gives the next page's cursor.
func (s *Surveying) Bindings(ctx context.Context, f BindingFilter, p Page) ([]Binding, string, error) {
	return s.store.Bindings(ctx, f, p)
}

// CountBindings counts the bindings of the whole estate by verdict.
func (s *Surveying) CountBindings(ctx context.Context) (VerdictCounts, error) {
	return s.store.CountBindings(ctx)
}

// Certificates lists certificates and gives the next page's cursor.
func (s *Surveying) Certificates(ctx context.Context, f CertificateFilter, p Page) ([]Certificate, string, error) {
	return s.store.Certificates(ctx, f, p)
}

// Findings lists findings and gives the next page's cursor.
func (s *Surveying) Findings(ctx context.Context, f FindingFilter, p Page) ([]Finding, string, error) {
	return s.store.Findings(ctx, f, p)
}

// CountFindings counts open findings by severity, worst first, and those accepted.
func (s *Surveying) CountFindings(ctx context.Context) (open [4]int, accepted int, err error) {
	return s.store.CountFindings(ctx)
}

// Survey gives one survey.
func (s *Surveying) Survey(ctx context.Context, id int64) (*Survey, error) {
	return s.store.Survey(ctx, id)
}

// Surveys lists surveys, newest first, older than before (0: from the newest).
func (s *Surveying) Surveys(ctx context.Context, before int64, limit int) ([]Survey, error) {
	return s.store.Surveys(ctx, before, limit)
}

// Servers lists servers and gives the next page's cursor.
func (s *Reading) Servers(ctx context.Context, f ServerFilter, p Page) ([]Server, string, error) {
	read := "all"
	if f.Read != nil {
		read = strconv.FormatBool(*f.Read)
	}
	page, err := s.listed.get(ctx, fmt.Sprintf("%q %q %s %+v", f.Query, f.Name, read, p),
		func(ctx context.Context) (serverPage, error) {
			list, next, err := s.store.Servers(ctx, f, p)
			return serverPage{list, next}, err
		})
	return slices.Clone(page.list), page.next, err
}

// serverPage is a page of servers.
type serverPage struct {
	list []Server
	next string
}

// DeclaredFile names the estate file in force; "" when none was applied.
func (s *Declaring) DeclaredFile(ctx context.Context) (string, error) {
	_, file, err := s.store.DeclaredAs(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return "", nil
	}
	return file, err
}

// Credentials lists the credentials in the safe by name, without what they are.
func (s *Ordering) Credentials(ctx context.Context) ([]Credential, error) {
	return s.store.Credentials(ctx)
}

// Journal lists entries, newest first, older than before (0: from the newest),
// that hold a text.
func (s *Access) Journal(ctx context.Context, query string, before int64, limit int) ([]journal.Entry, error) {
	return s.store.Journal(ctx, query, before, limit)
}

// People lists everybody who was not removed, by name.
func (s *Access) People(ctx context.Context) ([]Person, error) { return s.store.People(ctx) }

// DatabaseTrouble says in words what keeps the database from doing anything at
// all, and whether its disk is full; "" when an error is no such thing.
func DatabaseTrouble(err error) (why string, full bool) { return store.Trouble(err) }
