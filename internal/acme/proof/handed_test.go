package proof_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/acme"
	"insegna.example/internal/acme/proof"
)

// asked is one act as an HTTP call brings it.
type asked struct {
	Act, Record, Type, Value string
	TTL                      int
}

// TestRecordsPutUpByOthers has a program and an HTTP call put records up on BIND, and
// finds out those that do not do what every order needs.
func TestRecordsPutUpByOthers(t *testing.T) {
	t.Parallel()
	one, two := pair(t, "lantern.example")
	u := &proof.Updates{Primary: one.Address, KeyName: "insegna", Algorithm: "hmac-sha256", Secret: secret}
	up := map[string]bool{}
	act := func(ctx context.Context, act, record, value string) error {
		p := []proof.Publication{{Kind: acme.DNS01, Name: strings.TrimPrefix(record, proof.Label), Content: value}}
		if act == proof.Withdraw {
			delete(up, value)
			return u.Withdraw(ctx, p)
		}
		up[value] = true
		return u.Publish(ctx, p)
	}
	var got []asked
	mux := http.NewServeMux()
	mux.HandleFunc("POST /records", func(w http.ResponseWriter, r *http.Request) {
		var a asked
		if r.Header.Get("Authorization") != "Bearer open sesame" || json.NewDecoder(r.Body).Decode(&a) != nil {
			http.Error(w, "who is there?", http.StatusUnauthorized)
			return
		}
		got = append(got, a)
		if err := act(r.Context(), a.Act, a.Record, a.Value); err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
		}
	})
	mux.Handle("/moved", http.RedirectHandler("/records", http.StatusTemporaryRedirect))
	web := httptest.NewServer(mux)
	defer web.Close()
	programs := t.TempDir()
	program := func(name, text string) func(context.Context, string, string, string) error {
		require.NoError(t, os.WriteFile(filepath.Join(programs, name), []byte("#!/bin/bash\n"+text), 0o755))
		return proof.Program(programs, name, 2*time.Second)
	}
	sends := fmt.Sprintf(`body="{\"act\":\"$1\",\"record\":\"$2\",\"type\":\"TXT\",\"value\":\"$3\",\"ttl\":60}"
exec 3<>/dev/tcp/%s
printf 'POST /records HTTP/1.0\r\nAuthorization: Bearer open sesame\r\nContent-Length: %%d\r\n\r\n%%s' ${#body} "$body" >&3
read -r status <&3; [[ $status == *" 200 "* ]]`, strings.Replace(strings.TrimPrefix(web.URL, "http://"), ":", "/", 1))
	call := func(path, token string) func(context.Context, string, string, string) error {
		return proof.Call(web.URL+path, []byte(token), 2*time.Second)
	}
	handed := func(do func(context.Context, string, string, string) error) *proof.Handed {
		return &proof.Handed{Do: do, Zones: proof.Updates{Primary: one.Address, Resolver: one.Address, Fixed: true,
			Servers: []string{one.Address, two.Address}, Patience: 3 * time.Second}}
	}
	for name, do := range map[string]func(context.Context, string, string, string) error{
		"call": call("/records", "open sesame"), "program": program("good", sends)} {
		got = nil
		for _, host := range []string{"a.lantern.example", "alias.lantern.example"} {
			held := handed(do).Conform(t.Context(), host, name+"-one", name+"-other")
			require.Len(t, held, 6, "%s: %+v", name, held)
			require.Empty(t, held[5].Wrong, "%s: %+v", name, held)
		}
		assert.Equal(t, asked{proof.Publish, "_acme-challenge.a.lantern.example", "TXT", name + "-one", 60}, got[0])
		assert.Equal(t, "_acme-challenge.target.lantern.example", got[len(got)-1].Record, "at the end of the CNAMEs")
		assert.Empty(t, up)
		assert.Empty(t, txt(one.Address, "_acme-challenge.a.lantern.example"))
	}
	for want, c := range map[string]struct {
		do    func(context.Context, string, string, string) error
		holds int
	}{
		"does not show the TXT record":                        {program("idle", "exit 0\n"), 0},
		"did not end within 2s":                               {program("hangs", "(sleep 60) & sleep 60\n"), 0},
		"exit status 3; it said: junk":                        {program("says", "yes junk | head -c 100000; exit 3\n"), 0},
		"is no program of the folder":                         {proof.Program(programs, "../"+filepath.Base(programs)+"/good", time.Second), 0},
		"it answers 401 Unauthorized; it said: who is there?": {call("/records", "wrong"), 0},
		"it answers 307 Temporary Redirect":                   {call("/moved", "open sesame"), 0},
		"does not show the TXT record of _acme-challenge.b.lantern.example. after": {func(ctx context.Context, a, record, value string) error {
			for other := range up { // one record a name is all it knows
				if a == proof.Publish && other != value {
					_ = act(ctx, proof.Withdraw, record, other)
				}
			}
			return act(ctx, a, record, value)
		}, 2},
		"still shows the record": {func(ctx context.Context, a, record, value string) error {
			if a == proof.Withdraw {
				return nil
			}
			return act(ctx, a, record, value)
		}, 3},
		"what is gone is gone": {func(ctx context.Context, a, record, value string) error {
			if a == proof.Withdraw && !up[value] {
				return fmt.Errorf("what is gone is gone")
			}
			return act(ctx, a, record, value)
		}, 5},
	} {
		held := handed(c.do).Conform(t.Context(), "b.lantern.example", "one", "other")
		if assert.Len(t, held, c.holds+1, "%s: %+v", want, held) {
			assert.Contains(t, held[c.holds].Wrong, want)
			assert.Less(t, len(held[c.holds].Wrong), 5000)
		}
		for value := range up {
			require.NoError(t, act(t.Context(), proof.Withdraw, "_acme-challenge.b.lantern.example", value))
		}
	}
}
