package pkcs

import (
	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"
)

// deepest is how deep containers nest: a certificate in a PKCS#12 in BER is about
// twenty deep.
const deepest = 64

// DER writes BER in its definite form (X.690 section 8.1.3): lengths that are left
// open until an end mark, as some programs write them, and lengths in more bytes
// than needed; octet strings in parts are put together. What is DER already comes out as it went in.
func DER(ber []byte) ([]byte, error) {
	out, rest, err := definiteForm(ber, 0)
	if err != nil {
		return nil, err
	}
	if len(rest) > 0 {
		return nil, &BrokenError{"end (bytes follow it)"}
	}
	return out, nil
}

// header reads tag and length: how long they are, how long the content is, and
// whether that is left open.
func header(in []byte) (head, length int, open, ok bool) {
	if len(in) < 2 || in[0]&0x1f == 0x1f { // no tag above 30 is used in containers
		return 0, 0, false, false
	}
	head, length = 2, int(in[1])
	switch {
	case in[1] == 0x80:
		return head, 0, true, in[0]&0x20 != 0
	case in[1] > 0x80:
		n := int(in[1] & 0x7f)
		if n > 4 || len(in) < 2+n {
			return 0, 0, false, false
		}
		length = 0
		for _, b := range in[2 : 2+n] {
			length = length<<8 | int(b)
		}
		head += n
	}
	return head, length, false, length <= len(in)-head
}

// definiteForm writes the first element of in, and gives what follows it.
func definiteForm(in []byte, depth int) (out, rest []byte, err error) {
	head, length, open, ok := header(in)
	if !ok || depth > deepest {
		return nil, nil, &BrokenError{"form (cut short, nested too deep, or no ASN.1)"}
	}
	body := in[head:]
	if !open {
		body, rest = in[head:head+length], in[head+length:]
	}
	if in[0]&0x20 == 0 {
		return element(in[0], body), rest, nil
	}
	var inside []byte
	for open || len(body) > 0 {
		if open && len(body) >= 2 && body[0] == 0 && body[1] == 0 {
			rest = body[2:]
			break
		}
		var one []byte
		if one, body, err = definiteForm(body, depth+1); err != nil {
			return nil, nil, err
		}
		inside = append(inside, one...)
	}
	if in[0] == 0x24 { // an OCTET STRING in parts (section 8.7.3)
		s := cryptobyte.String(inside)
		var joined []byte
		for !s.Empty() {
			var part cryptobyte.String
			if !s.ReadASN1(&part, tags.OCTET_STRING) {
				return nil, nil, &BrokenError{"octet string in parts"}
			}
			joined = append(joined, part...)
		}
		return element(0x04, joined), rest, nil
	}
	return element(in[0], inside), rest, nil
}

// element writes tag, length and content.
func element(tag byte, content []byte) []byte {
	n := len(content)
	out := []byte{tag}
	switch {
	case n < 0x80:
		out = append(out, byte(n))
	case n < 1<<8:
		out = append(out, 0x81, byte(n))
	case n < 1<<16:
		out = append(out, 0x82, byte(n>>8), byte(n))
	case n < 1<<24:
		out = append(out, 0x83, byte(n>>16), byte(n>>8), byte(n))
	default:
		out = append(out, 0x84, byte(n>>24), byte(n>>16), byte(n>>8), byte(n))
	}
	return append(out, content...)
}
