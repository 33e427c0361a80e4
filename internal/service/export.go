package service

import (
	"context"
	"path/filepath"
	"slices"

	"insegna.example/internal/core/estate"
)

// EstateExport is the estate in force as a file that can be applied elsewhere.
type EstateExport struct {
	Name            string            // of the file
	Text            []byte            // of it
	Files           map[string][]byte // certificate files it mentions, by their path beside it
	Hosts, Mandates int               // that were made here
}

// ExportEstate writes what is declared, with hosts and mandates that were made here, as one
// file. What is found by itself at servers that are to have all their hosts watched is found
// there again.
func (s *Declaring) ExportEstate(ctx context.Context) (*EstateExport, error) {
	d, _, err := s.Declared(ctx)
	if err != nil {
		return nil, err
	}
	list, err := s.store.Mandates(ctx, "", "", mandatesInAll)
	if err != nil {
		return nil, err
	}
	var made []estate.Mandate
	for i := range list {
		if list[i].Generation == nil {
			made = append(made, list[i].Spec)
		}
	}
	hosts := slices.DeleteFunc(slices.Clone(d.Made), func(m estate.Made) bool { return m.Found })
	var mentioned []string
	for _, t := range d.Texts() {
		mentioned = append(mentioned, estate.Mentioned(t.Data)...)
	}
	slices.Sort(mentioned)
	names := estate.Beside(slices.Compact(mentioned))
	out := &EstateExport{Name: filepath.Base(d.File), Files: map[string][]byte{}, Hosts: len(hosts), Mandates: len(made)}
	if ext := filepath.Ext(out.Name); len(d.Parts) > 0 || ext != ".yaml" && ext != ".yml" {
		out.Name = "estate.yaml"
	}
	for from, to := range names {
		out.Files[to] = d.Files[from]
	}
	if len(d.Parts) == 0 && len(hosts)+len(made) == 0 && unchanged(names) {
		out.Text = d.Content
		return out, nil
	}
	out.Text, err = estate.Export(d.Texts(), hosts, made, names)
	return out, err
}

// unchanged says whether files keep the names they have.
func unchanged(names map[string]string) bool {
	for from, to := range names {
		if from != to {
			return false
		}
	}
	return true
}
