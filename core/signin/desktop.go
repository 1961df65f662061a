package signin

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"
)

// Desk is what is known of where people of a domain sign in.
type Desk struct {
	Domain  string
	SignOn  string // where the provider takes requests
	Own     bool   // it is Kambrel's own
	Tickets bool   // which takes tickets
	Realms  []string
	Cloud   string // where the cloud takes assertions
}

// Section is a part of what desktops and browsers need, with lines that can be handed on.
type Section struct {
	Title string   `json:"title"`
	Why   string   `json:"why"`
	Lines []string `json:"lines"`
}

// Desktops tells what desktops and browsers need so that people of a domain sign in.
func Desktops(d Desk) []Section {
	host, port := placeOf(d.SignOn)
	cloud, cloudPort := placeOf(d.Cloud)
	out := []Section{
		{"Names and ports", "Each person's browser must find both and reach them; the cloud itself reaches neither the provider nor a directory.", []string{
			fmt.Sprintf("%s  TCP %s  from browsers, the identity provider", host, port),
			fmt.Sprintf("%s  TCP %s  from browsers, the cloud", cloud, cloudPort),
		}},
		{"Encryption", "A password that is typed into a page without it can be read on the way.", encryption(d, host)},
		{"Time", "Assertions are valid for minutes, tickets are refused when clocks are more than five minutes apart.", []string{
			"Desktops take the time of their domain controller (W32Time, or chrony with the controllers as sources).",
			"The identity provider and Kambrel take it from the same sources.",
		}},
		{"Cookies", "A browser that keeps none for the provider asks for the password each time.", []string{
			"Allow cookies for https://" + host + " where a policy blocks them: Chromium CookiesAllowedForUrls, Firefox Cookies.Allow.",
		}},
	}
	switch {
	case d.Tickets:
		out = append(out, tickets(d, host)...)
	case d.Own:
		out = append(out, Section{"Tickets (Kerberos)", "People of a domain controller need no password at their desk where the service takes tickets.", []string{
			"It takes none now. Start the service with --kerberos-keytab; 'kambrel serve --help' says how.",
		}})
	default:
		out = append(out, Section{"Tickets (Kerberos)", "Whether people need no password at their desk is for their provider to say.", []string{
			"If it takes tickets, browsers must be let: put " + host + " on the lists that are named for Kambrel's own provider (Chromium AuthServerAllowlist, Firefox Authentication.SPNEGO, zone 1 of the desktop's site list).",
		}})
	}
	return out
}

func encryption(d Desk, host string) []string {
	if strings.HasPrefix(d.SignOn, "https://") {
		return []string{"Each desktop must trust the authority that has issued the certificate of " + host + ". Where it is the organization's own: Chromium takes those of the system, Firefox too with ImportEnterpriseRoots."}
	}
	return []string{"NOT ENCRYPTED: " + d.SignOn + " is for this machine alone. Give the service a certificate and --url https://... before people use it."}
}

func tickets(d Desk, host string) []Section {
	realms := strings.Join(d.Realms, ", ")
	domains := make([]string, len(d.Realms))
	for i, realm := range d.Realms {
		domains[i] = "." + strings.ToLower(realm) + " = " + realm
	}
	return []Section{
		{"An account and a key for tickets", "Desktops ask the domain controller for a ticket to HTTP/" + host + "; the service reads it by the key of that account. The name must be a host name, since there are no tickets for addresses.", []string{
			named(host) + "On a domain controller, once:",
			"  samba-tool user create svc-sign-in --random-password",
			"  samba-tool spn add HTTP/" + host + " svc-sign-in",
			"  samba-tool domain exportkeytab sign-in.keytab --principal=HTTP/" + host,
			"or with ktpass: ktpass /princ HTTP/" + host + "@" + first(d.Realms) + " /mapuser svc-sign-in /crypto AES256-SHA1 /ptype KRB5_NT_PRINCIPAL /pass +rndPass /out sign-in.keytab",
			"Bring sign-in.keytab to the service's host, readable by the service alone, and start it with --kerberos-keytab.",
			"The account needs no other right; let nobody sign in with it.",
		}},
		{"Browsers on desktops of " + realms, "Without it a browser sends no ticket, and people are asked for their password.", []string{
			"Policy of Chromium and those built on it: AuthServerAllowlist = " + host,
			"Policy of Firefox: Authentication.SPNEGO = [\"https://" + host + "\"] (network.negotiate-auth.trusted-uris by hand)",
			"Group policy Site to Zone Assignment List: https://" + host + " = 1 (local intranet), with Logon options: automatic logon only in intranet zone",
			"Desktops without a domain: krb5.conf, [domain_realm] " + strings.Join(domains, "; "),
		}},
		{"Looking at one desktop", "The check page tells that browser what is missing.", []string{
			strings.TrimSuffix(d.SignOn, "/sign-in") + "/check",
			"klist shows whether there is a ticket for HTTP/" + host + " after it.",
		}},
	}
}

// named says that tickets are for names.
func named(host string) string {
	if _, err := netip.ParseAddr(host); err == nil {
		return "FIRST give the service a name: " + host + " is an address (--url https://sign-in.your.domain). "
	}
	return ""
}

func first(list []string) string {
	if len(list) == 0 {
		return "REALM"
	}
	return list[0]
}

func placeOf(address string) (host, port string) {
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" {
		return "?", "?"
	}
	if port = u.Port(); port == "" {
		port = map[string]string{"https": "443", "http": "80"}[u.Scheme]
	}
	return u.Hostname(), port
}
