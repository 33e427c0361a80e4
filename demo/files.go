package demo

import (
	"bytes"
	"os"
	"path/filepath"
	"text/template"
)

// view is what the templates of configurations see.
type view struct {
	*Estate
	Root bool // started by root: the workers of nginx drop to an ordinary user
}

// writeFiles writes every server's configuration and the estate file.
func (e *Estate) writeFiles() error {
	v := view{e, os.Geteuid() == 0}
	for name, text := range map[string]string{
		"pier-1/nginx.conf": nginxHead + pier1Sites + "}\n", "pier-2/nginx.conf": nginxHead + pier2Sites + "}\n",
		"quay-lb/haproxy.cfg": quayConfig, "quay-lb/certificates": quayList, "estate.yaml": estateFile,
	} {
		t, err := template.New(name).Parse(text)
		if err != nil {
			return err
		}
		var out bytes.Buffer
		if err := t.Execute(&out, v); err != nil {
			return err
		}
		path := e.path(filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, out.Bytes(), 0o644); err != nil {
			return err
		}
	}
	return e.joinForBalancer()
}

// joinForBalancer puts certificate, chain and key in one file each, as HAProxy
// reads them.
func (e *Estate) joinForBalancer() error {
	for _, name := range []string{"booking", "tickets", "wildcard", "status", "api"} {
		cert, err := os.ReadFile(e.path("quay-lb", name+".pem"))
		if err != nil {
			return err
		}
		key, err := os.ReadFile(e.path("quay-lb", name+".key"))
		if err != nil {
			return err
		}
		if err := os.WriteFile(e.path("quay-lb", name+".both"), append(cert, key...), 0o600); err != nil {
			return err
		}
	}
	return nil
}

const nginxHead = `{{if .Root}}user nobody nogroup;
{{end}}daemon off;
pid nginx.pid;
error_log stderr;
worker_processes 1;
events { worker_connections 256; }
http {
    access_log off;
    client_body_temp_path t1; proxy_temp_path t2; fastcgi_temp_path t3; uwsgi_temp_path t4; scgi_temp_path t5;
    default_type text/plain;
    server_tokens off;
    ssl_protocols TLSv1.2 TLSv1.3;
`

const pier1Sites = `
    server { listen {{.Addr 11}}:8443 ssl; server_name booking.lanterncoast.example; ssl_certificate booking.pem; ssl_certificate_key booking.key; return 200 "booking on pier-1\n"; }
    server { listen {{.Addr 11}}:8443 ssl; server_name tickets.lanterncoast.example; ssl_certificate tickets.pem; ssl_certificate_key tickets.key; return 200 "tickets on pier-1\n"; }
    server { listen {{.Addr 11}}:8444 ssl; server_name timetable.lanterncoast.example; ssl_certificate timetable.pem; ssl_certificate_key timetable.key; return 200 "timetable\n"; }
    server { listen {{.Addr 11}}:8445 ssl; server_name crew.lanterncoast.example; ssl_certificate crew.pem; ssl_certificate_key crew.key; return 200 "crew\n"; }
    # The whole bundle was copied, root and all.
    server { listen {{.Addr 11}}:8446 ssl; server_name menu.lanterncoast.example; ssl_certificate menu.pem; ssl_certificate_key menu.key; return 200 "menu\n"; }
    server { listen {{.Addr 11}}:9443 ssl; server_name radar.lanterncoast.example; ssl_certificate radar.pem; ssl_certificate_key radar.key; return 200 "radar\n"; }

    # freight-1
    server { listen {{.Addr 20}}:8443 ssl; server_name freight.lanterncoast.example; ssl_certificate freight.pem; ssl_certificate_key freight.key; return 200 "freight\n"; }
    # Renamed from freight-old; the certificate was not.
    server { listen {{.Addr 20}}:8444 ssl; server_name cargo.lanterncoast.example; ssl_certificate cargo.pem; ssl_certificate_key cargo.key; return 200 "cargo\n"; }
    server { listen {{.Addr 20}}:8445 ssl; server_name ships.lanterncoast.example; ssl_certificate ships.pem; ssl_certificate_key ships.key; return 200 "ships\n"; }
    server { listen {{.Addr 20}}:8446 ssl; server_name xn--fhre-loa.lanterncoast.example; ssl_certificate ferry.pem; ssl_certificate_key ferry.key; return 200 "ferry\n"; }
`

const pier2Sites = `
    # This booking.pem is the one from before the last renewal.
    server { listen {{.Addr 12}}:8443 ssl; server_name booking.lanterncoast.example; ssl_certificate booking.pem; ssl_certificate_key booking.key; return 200 "booking on pier-2\n"; }
    server { listen {{.Addr 12}}:8443 ssl; server_name tickets.lanterncoast.example; ssl_certificate tickets.pem; ssl_certificate_key tickets.key; return 200 "tickets on pier-2\n"; }
    server { listen {{.Addr 12}}:8444 ssl; server_name timetable.lanterncoast.example; ssl_certificate timetable.pem; ssl_certificate_key timetable.key; return 200 "timetable\n"; }
    # Only the leaf was copied here.
    server { listen {{.Addr 12}}:8445 ssl; server_name roster.lanterncoast.example; ssl_certificate roster.pem; ssl_certificate_key roster.key; return 200 "roster\n"; }
    server { listen {{.Addr 12}}:8446 ssl; server_name lost-property.lanterncoast.example; ssl_certificate lost-property.pem; ssl_certificate_key lost-property.key; return 200 "lost property\n"; }
    server { listen {{.Addr 12}}:9443 ssl; server_name webcam.lanterncoast.example; ssl_certificate webcam.pem; ssl_certificate_key webcam.key; return 200 "webcam\n"; }

    # kiosk-gw; nothing listens on port 9443 any more
    server { listen {{.Addr 31}}:9444; server_name kiosk-admin.lanterncoast.example; return 200 "kiosk admin\n"; }
    # moorings has no site of its own.
    server { listen {{.Addr 31}}:9445 ssl default_server; server_name harbourmaster.lanterncoast.example; ssl_certificate harbourmaster.pem; ssl_certificate_key harbourmaster.key; return 200 "harbourmaster\n"; }
`

const quayConfig = `global
    # It keeps the user it is started by: changing it would make the kernel
    # forget that this process must end with the demo.
    log stderr local0 notice

defaults
    mode http
    timeout connect 5s
    timeout client 30s
    timeout server 30s

frontend public
    bind {{.Addr 10}}:8443 ssl crt-list {{.Dir}}/quay-lb/certificates alpn h2,http/1.1
    default_backend piers

frontend status
    bind {{.Addr 10}}:8444 ssl crt {{.Dir}}/quay-lb/status.both
    http-request return status 200 content-type text/plain string "all ferries run"

frontend api
    bind {{.Addr 10}}:8445 ssl crt {{.Dir}}/quay-lb/api.both alpn h2,http/1.1
    http-request return status 200 content-type application/json string "{}"

backend piers
    server pier-1 {{.Addr 11}}:8443 ssl verify none sni ssl_fc_sni
    server pier-2 {{.Addr 12}}:8443 ssl verify none sni ssl_fc_sni
`

const quayList = `{{.Dir}}/quay-lb/booking.both booking.lanterncoast.example
{{.Dir}}/quay-lb/tickets.both tickets.lanterncoast.example
{{.Dir}}/quay-lb/wildcard.both lanterncoast.example *.lanterncoast.example
`

const estateFile = `# Lantern Coast Ferries, the demo estate. Written anew at every start of the demo.
estate: Lantern Coast Ferries

audiences:
  - name: browsers            # the first is the default of every host
    public: true
    roots: [pki/harbour-root.pem]
  - name: in-house
    roots: [pki/harbour-root.pem, pki/crew-root.pem]

intermediates: [pki/crew-ca.pem]

servers:
  - name: quay-lb             # the balancer in front of the booking nodes
    kind: haproxy
    addresses: [{{.Addr 10}}]
    ports: [8443-8445]
  - name: pier-1
    kind: nginx
    addresses: [{{.Addr 11}}]
    ports: [8443-8446, 9443]
  - name: pier-2
    kind: nginx
    addresses: [{{.Addr 12}}]
    ports: [8443-8446, 9443]
  - name: freight-1
    kind: nginx
    addresses: [{{.Addr 20}}]
    ports: [8443-8446]
  - name: kiosk-gw
    kind: nginx
    addresses: [{{.Addr 31}}]
    ports: [9443-9445]

hosts:
  - name: booking.lanterncoast.example
    at: [quay-lb:8443, pier-1:8443, pier-2:8443]
    wanted: {issuer: Harbour Light Issuing CA 2}
  - name: tickets.lanterncoast.example
    at: [quay-lb:8443, pier-1:8443, pier-2:8443]
    wanted: {issuer: Harbour Light Issuing CA 2}
  - name: lanterncoast.example
    at: [quay-lb:8443]
  - name: www.lanterncoast.example
    at: [quay-lb:8443]
  - name: status.lanterncoast.example
    at: [quay-lb:8444]
  - name: api.lanterncoast.example
    at: [quay-lb:8445]
  - name: timetable.lanterncoast.example
    at: [pier-1:8444, pier-2:8444]
  - name: crew.lanterncoast.example
    at: [pier-1:8445]
    audiences: [in-house]
  - name: roster.lanterncoast.example
    at: [pier-2:8445]
    audiences: [in-house]
  - name: menu.lanterncoast.example
    at: [pier-1:8446]
  - name: lost-property.lanterncoast.example
    at: [pier-2:8446]
  - name: radar.lanterncoast.example
    at: [pier-1:9443]
  - name: webcam.lanterncoast.example
    at: [pier-2:9443]
    audiences: [in-house]
    wanted: {issuer: Harbour Light Issuing CA 2}
  - name: freight.lanterncoast.example
    at: [freight-1:8443]
  - name: cargo.lanterncoast.example
    at: [freight-1:8444]
  - name: ships.lanterncoast.example
    at: [freight-1:8445]
  - name: fähre.lanterncoast.example
    at: [freight-1:8446]
  - name: kiosk.lanterncoast.example
    at: [kiosk-gw:9443]
  - name: kiosk-admin.lanterncoast.example
    at: [kiosk-gw:9444]
  - name: moorings.lanterncoast.example
    at: [kiosk-gw:9445]
  - name: harbourmaster.lanterncoast.example
    at: [kiosk-gw:9445]
`
