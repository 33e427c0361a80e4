package certs

import (
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
	"golang.org/x/text/unicode/norm"
)

// DN is a distinguished name in the form names are compared in (RFC 5280
// section 7.1): without regard to case, to the kind of string, or to how many
// blanks stand between words. One name begins with another exactly when its
// list of RDNs does.
type DN string

// ParseDN brings a DER name to that form. What is no name is compared as the
// bytes it is.
func ParseDN(der []byte) DN {
	input := cryptobyte.String(der)
	var rdns cryptobyte.String
	if !input.ReadASN1(&rdns, asn1.SEQUENCE) || !input.Empty() {
		return DN("?" + string(der))
	}
	var out strings.Builder
	var parts []string
	for !rdns.Empty() {
		var set cryptobyte.String
		if !rdns.ReadASN1(&set, asn1.SET) {
			return DN("?" + string(der))
		}
		parts = parts[:0]
		for !set.Empty() {
			var pair, kind, value cryptobyte.String
			var tag asn1.Tag
			if !set.ReadASN1(&pair, asn1.SEQUENCE) || !pair.ReadASN1(&kind, asn1.OBJECT_IDENTIFIER) ||
				!pair.ReadAnyASN1(&value, &tag) {
				return DN("?" + string(der))
			}
			parts = append(parts, framed(string(kind))+framed(folded(tag, value)))
		}
		slices.Sort(parts) // an RDN is a set
		out.WriteString(framed(strings.Join(parts, "")))
	}
	return DN(out.String())
}

// framed puts a text's length before it, so that no text runs into the next.
func framed(s string) string { return strconv.Itoa(len(s)) + ":" + s }

// The tags of strings in names that are not named in cryptobyte.
const (
	tagVisible   asn1.Tag = 26
	tagUniversal asn1.Tag = 28
	tagBMP       asn1.Tag = 30
)

// folded brings one value to the form it is compared in; what is no string
// keeps its bytes and its tag.
func folded(tag asn1.Tag, value []byte) string {
	text, ok := decoded(tag, value)
	if !ok {
		return "\x00" + string(rune(tag)) + string(value)
	}
	if !ascii(value) {
		text = norm.NFKC.String(text)
	}
	text = strings.ToLower(text)
	if strings.Contains(text, "  ") || strings.TrimSpace(text) != text || strings.ContainsAny(text, "\t\r\n\v\f") {
		text = strings.Join(strings.Fields(text), " ")
	}
	return text
}

// decoded reads a string of any of the kinds a name may hold (RFC 5280 section
// 4.1.2.4, and those before it).
func decoded(tag asn1.Tag, value []byte) (string, bool) {
	switch tag {
	case asn1.PrintableString, asn1.UTF8String, asn1.IA5String, tagVisible:
		return string(value), true
	case asn1.T61String:
		text := make([]rune, len(value))
		for i, b := range value {
			text[i] = rune(b)
		}
		return string(text), true
	case tagBMP, tagUniversal:
		width := 2
		if tag == tagUniversal {
			width = 4
		}
		if len(value)%width != 0 {
			return "", false
		}
		var units []uint16
		var text []rune
		for i := 0; i < len(value); i += width {
			if width == 2 {
				units = append(units, uint16(value[i])<<8|uint16(value[i+1]))
				continue
			}
			text = append(text, rune(value[i])<<24|rune(value[i+1])<<16|rune(value[i+2])<<8|rune(value[i+3]))
		}
		return string(append(text, utf16.Decode(units)...)), true
	}
	return "", false
}

// Begins says whether the name's first RDNs are those of the other: whether it
// lies in that subtree of the directory (RFC 5280 section 4.2.1.10).
func (n DN) Begins(base DN) bool { return strings.HasPrefix(string(n), string(base)) }
