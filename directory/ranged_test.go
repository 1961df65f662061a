package directory

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/lab/servers"
)

// mostAtOnce is how many members the ranging directory sends in one answer.
const mostAtOnce = 10

// ranging stands before a real directory and sends large memberships in ranges,
// as AD-compatible directories do above 1,500 members; those that install here
// send them whole.
type ranging struct {
	gone atomic.Value // the beginning of a group's name that vanishes before its second range is read
}

// rangingConn is one connection through it.
type rangingConn struct {
	*ranging
	asked sync.Map // message id: the first member that a search asks for
}

func startRanging(t *testing.T, server *servers.LDAPServer) (*ranging, Connection) {
	t.Helper()
	r := &ranging{}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	pem, err := os.ReadFile(server.CAFile)
	require.NoError(t, err)
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM(pem))
	address, err := url.Parse(server.URL)
	require.NoError(t, err)
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			far, err := tls.Dial("tcp", net.JoinHostPort(address.Hostname(), cmp.Or(address.Port(), "636")), &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12})
			if err != nil {
				_ = near.Close()
				continue
			}
			c := &rangingConn{ranging: r}
			go pass(near, far, c.request)
			go pass(far, near, c.answer)
		}
	}()
	c := connection(server)
	c.URL, c.AllowPlain = "ldap://"+listener.Addr().String(), true
	return r, c
}

func pass(from, to net.Conn, edit func(*ber.Packet) *ber.Packet) {
	defer from.Close()
	defer to.Close()
	for {
		packet, err := ber.ReadPacket(from)
		if err != nil {
			return
		}
		if _, err := to.Write(edit(packet).Bytes()); err != nil {
			return
		}
	}
}

// remade is a packet with other children.
func remade(of *ber.Packet, children ...*ber.Packet) *ber.Packet {
	packet := ber.Encode(of.ClassType, of.TagType, of.Tag, nil, "")
	for _, child := range children {
		packet.AppendChild(child)
	}
	return packet
}

func text(value string) *ber.Packet {
	return ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, value, "")
}

// request asks the real directory for all members where a range is asked for.
func (r *rangingConn) request(message *ber.Packet) *ber.Packet {
	search := message.Children[1]
	if search.Tag != ldap.ApplicationSearchRequest {
		return message
	}
	names := slices.Clone(search.Children[7].Children)
	for i, name := range names {
		if member, bounds, ranged := strings.Cut(name.Data.String(), ";range="); ranged {
			from, _ := strconv.Atoi(strings.TrimSuffix(bounds, "-*"))
			r.asked.Store(message.Children[0].Value, from)
			names[i] = text(member)
			if gone, set := r.gone.Load().(string); set && strings.HasPrefix(strings.ToLower(search.Children[0].Data.String()), gone) {
				search.Children[0] = text("cn=nobody," + search.Children[0].Data.String())
			}
		}
	}
	children := slices.Clone(search.Children)
	children[7] = remade(search.Children[7], names...)
	return remade(message, append([]*ber.Packet{message.Children[0], remade(search, children...)}, message.Children[2:]...)...)
}

// answer cuts large memberships.
func (r *rangingConn) answer(message *ber.Packet) *ber.Packet {
	found := message.Children[1]
	if found.Tag != ldap.ApplicationSearchResultEntry {
		return message
	}
	from := 0
	if asked, ok := r.asked.Load(message.Children[0].Value); ok {
		from = asked.(int)
	}
	attributes := slices.Clone(found.Children[1].Children)
	for i, attribute := range attributes {
		values := attribute.Children[1].Children
		name := attribute.Children[0].Data.String()
		if !strings.EqualFold(name, "member") || len(values) <= mostAtOnce {
			continue
		}
		last := min(from+mostAtOnce, len(values))
		bounds := fmt.Sprintf("%d-%d", from, last-1)
		if last == len(values) {
			bounds = fmt.Sprintf("%d-*", from)
		}
		attributes[i] = remade(attribute, text(name+";range="+bounds), remade(attribute.Children[1], values[from:last]...))
	}
	return remade(message, append([]*ber.Packet{message.Children[0], remade(found, found.Children[0], remade(found.Children[1], attributes...))}, message.Children[2:]...)...)
}

// TestLargeMembershipsAreReadInRanges reads groups of all sizes around the
// limit, among more entries than a connection holds back.
func TestLargeMembershipsAreReadInRanges(t *testing.T) {
	t.Parallel()
	for name, start := range map[string]func(*testing.T) *peer{"standard": startStandard, "ad": startAD} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := start(t)
			teams := p.ou(p.server.BaseDN, "Teams")
			var crew []string
			for i := range 35 {
				crew = append(crew, p.person(teams, fmt.Sprintf("Crew %02d", i)))
			}
			sizes := []int{35, 1, 9, 10, 11, 20, 21, 30, 31}
			groups := map[string][]string{}
			for i, size := range sizes {
				groups[p.group(teams, fmt.Sprintf("Team %d", i), crew[:size])] = crew[:size]
			}
			proxy, c := startRanging(t, p.server)
			session, err := Open(t.Context(), c)
			require.NoError(t, err)
			t.Cleanup(session.Close)
			p.session = session

			check := func(f found) {
				t.Helper()
				for dn, members := range groups {
					rdn, _, _ := strings.Cut(strings.ToLower(dn), ",")
					require.Contains(t, f.entries, rdn)
					assert.ElementsMatch(t, lower(members), lower(f.entries[rdn].Members), rdn)
				}
			}
			check(p.read(nil))
			// A change of one member brings the whole of that group.
			for dn := range groups {
				if len(groups[dn]) == 31 {
					p.modify(dn, func(r *ldap.ModifyRequest) { r.Add("member", []string{crew[34]}) })
					groups[dn] = append(slices.Clone(groups[dn]), crew[34])
				}
			}
			changed := p.changes()
			assert.Len(t, changed.entries["cn=team 8"].Members, 32)

			// A group that is gone when its second range is read is no group of ten:
			// it is left out, and the others are read.
			proxy.gone.Store("cn=team 0,")
			whole := p.read(nil)
			assert.NotContains(t, whole.entries, "cn=team 0")
			assert.Len(t, whole.entries["cn=team 8"].Members, 32)
		})
	}
}

// TestRangesAreReadWhileMoreEntriesCome has so many entries behind a large group
// that the connection holds answers back while the members are asked for.
func TestRangesAreReadWhileMoreEntriesCome(t *testing.T) {
	t.Parallel()
	var ldif strings.Builder
	fmt.Fprintf(&ldif, "dn: %s\nobjectClass: organization\nobjectClass: dcObject\no: Brisling Cargo\ndc: brisling\n\n%s", "dc=brisling,dc=example", servers.ReaderLDIF("dc=brisling,dc=example"))
	for g := range 3 {
		fmt.Fprintf(&ldif, "dn: cn=Team %d,dc=brisling,dc=example\nobjectClass: groupOfNames\n", g)
		for i := range 45 {
			fmt.Fprintf(&ldif, "member: cn=Crew %04d,dc=brisling,dc=example\n", i)
		}
		ldif.WriteString("\n")
		for i := range 1500 {
			fmt.Fprintf(&ldif, "dn: cn=Crew %d%04d,dc=brisling,dc=example\nobjectClass: inetOrgPerson\nsn: Crew\ntitle: Hand\n\n", g, i)
		}
	}
	file := t.TempDir() + "/base.ldif"
	require.NoError(t, os.WriteFile(file, []byte(ldif.String()), 0o600))
	server := startOpenLDAP(t, file, servers.OpenLDAPOptions{})
	_, c := startRanging(t, server)
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	session, err := Open(ctx, c)
	require.NoError(t, err)
	defer session.Close()
	people, members := 0, map[string]int{}
	result, err := session.Read(ctx, Request{Dialect: entry.Standard, Base: server.BaseDN, Attributes: []string{"title"}}, func(i Item) error {
		switch {
		case i.Entry == nil:
		case len(i.Entry.Members) > 0:
			members[i.Entry.DN] = len(i.Entry.Members)
		default:
			people++
		}
		return nil
	})
	require.NoError(t, err)
	assert.True(t, result.Complete)
	assert.GreaterOrEqual(t, people, 4500)
	for g := range 3 {
		assert.Equal(t, 45, members[fmt.Sprintf("cn=Team %d,dc=brisling,dc=example", g)])
	}
}

// TestManyChangesAtOnce has more changes than a connection holds back, each of
// which must be fetched while the others come.
func TestManyChangesAtOnce(t *testing.T) {
	t.Parallel()
	p := startAD(t)
	fleet := p.ou(p.server.BaseDN, "Fleet")
	p.read(nil)
	const crew = 400
	for i := range crew {
		p.person(fleet, fmt.Sprintf("Crew %03d", i))
	}
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	seen := map[string]bool{}
	_, err := p.session.Read(ctx, Request{Dialect: p.dialect, Base: p.server.BaseDN, Attributes: []string{"title", "cn", "description"}, Cookie: p.cookie}, func(i Item) error {
		if i.Entry != nil {
			seen[i.Entry.DN] = true
		}
		return nil
	})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(seen), crew)
}

func lower(texts []string) []string {
	out := make([]string, len(texts))
	for i, text := range texts {
		out[i] = strings.ToLower(text)
	}
	return out
}
