package binding

import (
	"fmt"
	"strings"
)

// suiteNames are the cipher suites that a look offers, by their number in the TLS
// registry (RFC 5246, RFC 5288, RFC 5289, RFC 7905, RFC 8446 appendix B.4).
var suiteNames = map[uint16]string{
	0x1301: "TLS_AES_128_GCM_SHA256",
	0x1302: "TLS_AES_256_GCM_SHA384",
	0x1303: "TLS_CHACHA20_POLY1305_SHA256",
	0xC02B: "TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256",
	0xC02F: "TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256",
	0xC02C: "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384",
	0xC030: "TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384",
	0xCCA9: "TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256",
	0xCCA8: "TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256",
	0x009E: "TLS_DHE_RSA_WITH_AES_128_GCM_SHA256",
	0x009F: "TLS_DHE_RSA_WITH_AES_256_GCM_SHA384",
	0xCCAA: "TLS_DHE_RSA_WITH_CHACHA20_POLY1305_SHA256",
	0xC009: "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA",
	0xC013: "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA",
	0xC00A: "TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA",
	0xC014: "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA",
	0xC023: "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256",
	0xC027: "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA256",
	0x0033: "TLS_DHE_RSA_WITH_AES_128_CBC_SHA",
	0x0039: "TLS_DHE_RSA_WITH_AES_256_CBC_SHA",
	0x0067: "TLS_DHE_RSA_WITH_AES_128_CBC_SHA256",
	0x006B: "TLS_DHE_RSA_WITH_AES_256_CBC_SHA256",
	0x009C: "TLS_RSA_WITH_AES_128_GCM_SHA256",
	0x009D: "TLS_RSA_WITH_AES_256_GCM_SHA384",
	0x003C: "TLS_RSA_WITH_AES_128_CBC_SHA256",
	0x003D: "TLS_RSA_WITH_AES_256_CBC_SHA256",
	0x002F: "TLS_RSA_WITH_AES_128_CBC_SHA",
	0x0035: "TLS_RSA_WITH_AES_256_CBC_SHA",
	0x000A: "TLS_RSA_WITH_3DES_EDE_CBC_SHA",
	0x0016: "TLS_DHE_RSA_WITH_3DES_EDE_CBC_SHA",
	0xC012: "TLS_ECDHE_RSA_WITH_3DES_EDE_CBC_SHA",
	0x0005: "TLS_RSA_WITH_RC4_128_SHA",
	0x0004: "TLS_RSA_WITH_RC4_128_MD5",
	0xC007: "TLS_ECDHE_ECDSA_WITH_RC4_128_SHA",
	0xC011: "TLS_ECDHE_RSA_WITH_RC4_128_SHA",
}

// SuiteName is a cipher suite by its name in the TLS registry, its number when
// it is not known here, "" for 0.
func SuiteName(id uint16) string {
	if name, ok := suiteNames[id]; ok || id == 0 {
		return name
	}
	return fmt.Sprintf("0x%04X", id)
}

// weaknesses are what makes a suite weak, by what its name holds, the worst
// first (RFC 9325 section 4.1 and 4.2).
var weaknesses = []struct{ holds, why string }{
	{"_NULL_", "it does not encrypt"},
	{"_anon_", "it does not prove who the server is"},
	{"_EXPORT", "its keys are short on purpose"},
	{"_RC4_", "RC4 is broken (RFC 7465)"},
	{"_DES_", "DES is broken"},
	{"_3DES_", "3DES has blocks too small for long connections"},
	{"TLS_RSA_WITH", "without a key exchange of its own, whoever gets the key later reads everything recorded"},
	{"_CBC_", "CBC in TLS 1.2 has been attacked again and again, and clients offer better"},
}

// SuiteWeakness says why a cipher suite is weak, "" when it is not known to be.
func SuiteWeakness(id uint16) string {
	name := SuiteName(id)
	for _, w := range weaknesses {
		if strings.Contains(name, w.holds) {
			return w.why
		}
	}
	return ""
}
