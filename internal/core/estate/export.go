package estate

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Export writes what several files declare, with hosts and mandates that were made beside
// them, as one file. Certificate files are called as rename says. The texts have been parsed
// before; comments stay.
func Export(texts []Text, made []Made, mandates []Mandate, rename map[string]string) ([]byte, error) {
	whole := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}
	for _, t := range texts {
		var doc yaml.Node
		if err := yaml.Unmarshal(t.Data, &doc); err != nil {
			return nil, err
		}
		if len(doc.Content) == 0 {
			continue
		}
		root := doc.Content[0]
		if len(whole.Content) == 0 {
			whole.HeadComment = doc.HeadComment
		}
		for i := 0; i+1 < len(root.Content); i += 2 {
			if had := valueOf(whole, root.Content[i].Value); had != nil && had.Kind == yaml.SequenceNode {
				had.Content = append(had.Content, root.Content[i+1].Content...)
				continue
			}
			whole.Content = append(whole.Content, root.Content[i], root.Content[i+1])
		}
	}
	for _, m := range made {
		n := hostNode(&m.Host)
		n.HeadComment = "taken in by " + m.Host.By
		appendTo(whole, "hosts", n)
	}
	for i := range mandates {
		n := mandateNode(&mandates[i])
		n.HeadComment = "made beside the file"
		appendTo(whole, "mandates", n)
	}
	renameFiles(whole, rename)
	var out bytes.Buffer
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	if err := enc.Encode(&yaml.Node{Kind: yaml.DocumentNode, Content: []*yaml.Node{whole}}); err != nil {
		return nil, err
	}
	return out.Bytes(), enc.Close()
}

// Beside gives each certificate file an estate mentions a path beside the file it is exported
// to: its own where that lies beside it already.
func Beside(paths []string) map[string]string {
	out := map[string]string{}
	taken := map[string]bool{}
	for _, p := range paths {
		if clean := path.Clean(p); !path.IsAbs(clean) && clean != ".." && !strings.HasPrefix(clean, "../") {
			out[p] = clean
			taken[clean] = true
		}
	}
	for _, p := range paths {
		if out[p] != "" {
			continue
		}
		name := "files/" + path.Base(p)
		for n := 2; taken[name]; n++ {
			name = fmt.Sprintf("files/%d-%s", n, path.Base(p))
		}
		out[p], taken[name] = name, true
	}
	return out
}

// valueOf gives a key's value; nil when it is not there.
func valueOf(n *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}

// appendTo adds an item to a list, which is begun where it is not there.
func appendTo(root *yaml.Node, key string, item *yaml.Node) {
	list := valueOf(root, key)
	if list == nil {
		list = &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq"}
		root.Content = append(root.Content, word(key), list)
	}
	list.Content = append(list.Content, item)
}

// renameFiles calls certificate files as they are called from now on.
func renameFiles(root *yaml.Node, rename map[string]string) {
	each := func(list *yaml.Node, do func(*yaml.Node)) {
		if list != nil {
			for _, n := range list.Content {
				do(n)
			}
		}
	}
	file := func(n *yaml.Node) {
		if to := rename[n.Value]; to != "" {
			n.Value = to
		}
	}
	roots := func(n *yaml.Node) { each(valueOf(n, "roots"), file) }
	each(valueOf(root, "audiences"), roots)
	each(valueOf(root, "intermediates"), file)
	each(valueOf(root, "cas"), roots)
	each(valueOf(root, "owners"), func(n *yaml.Node) {
		if hook := valueOf(n, "webhook"); hook != nil {
			roots(hook)
		}
	})
	if n := valueOf(root, "notices"); n != nil {
		if m := valueOf(n, "mail"); m != nil {
			roots(m)
		}
	}
}

// word is a text as YAML writes it.
func word(s string) *yaml.Node {
	var n yaml.Node
	n.SetString(s)
	return &n
}

// fieldsOf is a mapping of the keys that have a value.
func fieldsOf(list ...any) *yaml.Node {
	n := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}
	for i := 0; i+1 < len(list); i += 2 {
		var value *yaml.Node
		switch v := list[i+1].(type) {
		case string:
			if v == "" {
				continue
			}
			value = word(v)
		case int:
			if v == 0 {
				continue
			}
			value = &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: fmt.Sprint(v)}
		case bool:
			if !v {
				continue
			}
			value = &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: "true"}
		case []string:
			if len(v) == 0 {
				continue
			}
			value = &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq", Style: yaml.FlowStyle}
			for _, s := range v {
				value.Content = append(value.Content, word(s))
			}
		case *yaml.Node:
			if v == nil || len(v.Content) == 0 {
				continue
			}
			value = v
		}
		n.Content = append(n.Content, word(list[i].(string)), value)
	}
	return n
}

// refTexts writes places as an estate file has them.
func refTexts(list []Ref) []string {
	out := make([]string, len(list))
	for i, r := range list {
		out[i] = r.String()
	}
	return out
}

// hostNode writes a host.
func hostNode(h *Host) *yaml.Node {
	return fieldsOf("name", h.Name, "at", refTexts(h.At), "audiences", h.Audiences,
		"wanted", fieldsOf("issuer", h.Wanted.Issuer, "certificate", h.Wanted.Certificate), "group", h.Group, "owner", h.Owner, "tags", h.Tags)
}

// mandateNode writes a mandate.
func mandateNode(m *Mandate) *yaml.Node {
	p := &m.Proof
	proof := fieldsOf("by", p.By, "servers", slices.Clone(p.Servers), "folder", p.Folder, "at", p.At, "server", p.Server,
		"tsig", tsigNode(p.TSIG), "program", p.Program, "url", p.URL, "credential", p.Credential, "await", slices.Clone(p.Await), "keep", p.Keep)
	s := &m.Subject
	subject := fieldsOf("common_name", s.CommonName, "organization", s.Organization, "unit", s.Unit, "country", s.Country,
		"province", s.Province, "locality", s.Locality)
	return fieldsOf("name", m.Name, "names", m.Names, "ca", m.CA, "otherwise", slices.Clone(m.Otherwise), "proof", proof, "key", m.Key, "key_on", m.KeyOn,
		"install", refTexts(m.Install), "renew_days", m.RenewDays,
		"subject", subject, "must_staple", m.Staple, "reuse_key", m.ReuseKey, "profile", m.Profile, "keep", m.Keep)
}

// tsigNode writes the key of a name server.
func tsigNode(t TSIG) *yaml.Node {
	return fieldsOf("name", t.Name, "algorithm", t.Algorithm, "credential", t.Credential)
}
