package netfilter

import (
	"bufio"
	"encoding/binary"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"net/textproto"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/network/apart"
	"pilotrix/core/offer"
	"pilotrix/core/offer/offertest"
	"pilotrix/core/transfer/ftpd"
	"pilotrix/core/transfer/httpd"
	"pilotrix/core/transfer/tftp"
)

var (
	ruleSets = flag.Int("filter.sets", 40, "how many drawn sets of rules are held to the kernel")
	fromSeed = flag.Int("filter.seed", 0, "the first of them")
)

// high are the ports that this machine's servers send from in this test, as they are the system's.
var high = Ports{32768, 60999}

const fetcher = "PILOTRIX_FETCHER"

// TestVerdictsAreTheKernels draws sets of rules, has the kernel of a network of its own follow them, and fetches by
// TFTP, HTTP and FTP across a wire: what is said to be let through comes, and what is said to be dropped does not.
// -filter.sets has more of them.
func TestVerdictsAreTheKernels(t *testing.T) {
	if os.Getenv(fetcher) != "" {
		fetchOnDemand()
		return
	}
	apart.Run(t, kernelVerdicts, apart.With{Tools: []string{"nft"}})
}

type service struct {
	protocol string
	talk     Talk
	port     uint16
	how      string // to ask for the file
}

func serveAll(t *testing.T) (all []service) {
	stage := &offer.Stage{}
	_, err := stage.Offer(offertest.File("image", make([]byte, 700)))
	require.NoError(t, err)
	at := netip.MustParseAddr(apart.Here)
	with := offer.Serving{Network: network.Host{}, Stage: stage, Clock: clock.Real()}
	byTFTP, err := tftp.Listen(netip.AddrPortFrom(at, 69), tftp.Options{Network: network.Host{}, Stage: stage})
	require.NoError(t, err)
	byHTTP, err := httpd.Listen(netip.AddrPortFrom(at, 80), with)
	require.NoError(t, err)
	byFTP, err := ftpd.Listen(netip.AddrPortFrom(at, 21), with)
	require.NoError(t, err)
	go func() { _ = byTFTP.Serve(t.Context()) }()
	go func() { _ = byHTTP.Serve(t.Context()) }()
	go func() { _ = byFTP.Serve(t.Context()) }()
	user, password := byFTP.Login()
	return []service{
		{"tftp", OwnPorts, 69, "tftp"},
		{"http", OneConnection, 80, "http " + byHTTP.Path("image")},
		{"ftp", DataEitherWay, 21, "ftp " + user + " " + password},
	}
}

func kernelVerdicts(t *testing.T, there apart.Elsewhere) {
	there.Says("ip", "addr", "add", apart.There+"/24", "dev", apart.WireThere)
	there.Says("ip", "link", "set", apart.WireThere, "up")
	services := serveAll(t)
	device := there.Command(os.Args[0], "-test.run=^TestVerdictsAreTheKernels$")
	device.Env = append(os.Environ(), fetcher+"=yes")
	ask, err := device.StdinPipe()
	require.NoError(t, err)
	said, err := device.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, device.Start())
	defer func() { _ = ask.Close(); _ = device.Wait() }()
	answers := bufio.NewReader(said)
	fetch := func(s service) bool {
		_, err := io.WriteString(ask, s.how+"\n")
		require.NoError(t, err)
		line, err := answers.ReadString('\n')
		require.NoError(t, err)
		return strings.TrimSpace(line) == "came"
	}
	for _, s := range services {
		require.Eventually(t, func() bool { return fetch(s) }, 20*time.Second, 50*time.Millisecond,
			"%s, without any rule", s.protocol)
	}
	ends := Ends{netip.MustParseAddr(apart.Here), netip.MustParseAddr(apart.There), apart.WireHere}
	counts := map[string]int{}
	for seed := *fromSeed; seed < *fromSeed+*ruleSets; seed++ {
		d := drawn{rand.New(rand.NewPCG(uint64(seed), 5))}
		text := d.ruleset()
		apart.Says(t, "nft", "flush", "ruleset")
		load := exec.Command("nft", "-f", "-")
		load.Stdin = strings.NewReader(text)
		if out, err := load.CombinedOutput(); err != nil {
			t.Logf("seed %d: not taken: %.200s", seed, out)
			counts["not taken"]++
			continue
		}
		rules := apart.Says(t, "nft", "-j", "list", "ruleset")
		for _, s := range services {
			v, err := Judge([]byte(rules), s.talk.Conversation(s.port, ends, high))
			require.NoError(t, err)
			came := fetch(s)
			counts[fmt.Sprintf("%s, came %v", v.Kind, came)]++
			if v.Kind == Lets && !came || v.Kind == Drops && came {
				t.Errorf("seed %d: %s by %s, and the fetch came: %v\n%+v\n%s", seed, v.Kind, s.protocol, came, v, text)
			}
		}
	}
	t.Logf("%v", counts)
	assert.Greater(t, counts["lets through, came true"], *ruleSets/10)
	assert.Greater(t, counts["drops, came false"], *ruleSets/10)
	assert.Less(t, counts["not taken"], max(2, *ruleSets/10))
}

// fetchOnDemand is the device: for each line that it reads it fetches, and says whether it came.
func fetchOnDemand() {
	for in := bufio.NewScanner(os.Stdin); in.Scan(); {
		words := strings.Fields(in.Text())
		came := map[string]func([]string) error{"tftp": fetchTFTP, "http": fetchHTTP, "ftp": fetchFTP}[words[0]](
			words[1:],
		) == nil
		fmt.Println(map[bool]string{true: "came", false: "did not"}[came])
	}
	os.Exit(0)
}

const soon = 350 * time.Millisecond

func fetchTFTP([]string) error {
	conn, err := net.ListenUDP("udp4", nil)
	if err != nil {
		return err
	}
	defer conn.Close()
	_, _ = conn.WriteTo([]byte("\x00\x01image\x00octet\x00"), &net.UDPAddr{IP: net.ParseIP(apart.Here), Port: 69})
	buffer := make([]byte, 600)
	_ = conn.SetReadDeadline(time.Now().Add(2 * soon))
	for {
		n, from, err := conn.ReadFrom(buffer)
		if err != nil {
			return err
		}
		if buffer[1] != 3 {
			return fmt.Errorf("%q", buffer[:n])
		}
		_, _ = conn.WriteTo([]byte{0, 4, buffer[2], buffer[3]}, from)
		if n < 516 && binary.BigEndian.Uint16(buffer[2:]) == 2 {
			return nil
		}
	}
}

func fetchHTTP(words []string) error {
	client := http.Client{Timeout: 2 * soon, Transport: &http.Transport{DisableKeepAlives: true}}
	response, err := client.Get("http://" + apart.Here + words[0])
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.ReadAll(response.Body)
	return err
}

// fetchFTP fetches passively, then actively.
func fetchFTP(words []string) error {
	conn, err := net.DialTimeout("tcp", apart.Here+":21", soon)
	if err != nil {
		return err
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(3 * soon))
	c := textproto.NewConn(conn)
	if _, _, err := c.ReadResponse(220); err != nil {
		return err
	}
	say := func(code int, text string) (string, error) {
		if _, err := c.Cmd("%s", text); err != nil {
			return "", err
		}
		_, said, err := c.ReadResponse(code)
		return said, err
	}
	for _, one := range []struct {
		code int
		text string
	}{{331, "USER " + words[0]}, {230, "PASS " + words[1]}} {
		if _, err := say(one.code, one.text); err != nil {
			return err
		}
	}
	where, err := say(229, "EPSV")
	if err != nil {
		return err
	}
	port := strings.Trim(where[strings.Index(where, "("):], "(|)")
	data, err := net.DialTimeout("tcp", apart.Here+":"+port, soon)
	if err != nil {
		return err
	}
	defer data.Close()
	_ = data.SetDeadline(time.Now().Add(2 * soon))
	if _, err := say(150, "RETR image"); err != nil {
		return err
	}
	if got, err := io.ReadAll(data); err != nil || len(got) != 700 {
		return fmt.Errorf("%d came: %w", len(got), err)
	}
	if _, _, err := c.ReadResponse(226); err != nil {
		return err
	}
	listener, err := net.Listen("tcp4", apart.There+":0")
	if err != nil {
		return err
	}
	defer listener.Close()
	if _, err := say(200, fmt.Sprintf("EPRT |1|%s|%d|", apart.There, listener.Addr().(*net.TCPAddr).Port)); err != nil {
		return err
	}
	if _, err := say(150, "RETR image"); err != nil {
		return err
	}
	_ = listener.(*net.TCPListener).SetDeadline(time.Now().Add(2 * soon))
	active, err := listener.Accept()
	if err != nil {
		return err
	}
	defer active.Close()
	_ = active.SetDeadline(time.Now().Add(2 * soon))
	got, err := io.ReadAll(active)
	if err == nil && len(got) != 700 {
		err = fmt.Errorf("%d came", len(got))
	}
	return err
}

// drawn makes sets of rules.
type drawn struct{ *rand.Rand }

func (d drawn) of(all ...string) string { return all[d.IntN(len(all))] }

// match is one condition, or none.
func (d drawn) match(hook string) string {
	ports := d.of("69", "80", "21", "{ 69, 80 }", "{ 21, 69, 80 }", "1024-65535", "32768-60999", "40000-50000",
		"1-1023", "22", "!= 69", "!= { 69, 80 }", "> 1023", "< 1024", "@doors")
	switch d.IntN(18) {
	case 0, 1, 2:
		return d.of("udp", "tcp", "th") + " " + d.of("dport", "dport", "sport") + " " + ports
	case 3, 4:
		return "ct state " + d.of("new", "established", "established,related", "{ new, established }", "invalid",
			"!= new", "related")
	case 5, 6:
		return "ip " + d.of("saddr", "daddr") + " " + d.of("192.0.2.41", "192.0.2.10", "192.0.2.0/24",
			"198.51.100.0/24", "{ 192.0.2.41, 192.0.2.9 }", "192.0.2.1-192.0.2.20", "!= 192.0.2.41", "@friends")
	case 7:
		return "meta l4proto " + d.of("tcp", "udp", "{ tcp, udp }", "icmp", "!= udp")
	case 8:
		return "ip protocol " + d.of("tcp", "udp", "!= tcp")
	case 9:
		return d.of("iifname", "iifname", "oifname") + " " + d.of(`"wire0"`, `"lo"`, `"eth*"`, `"wire*"`, `!= "wire0"`,
			`{ "wire0", "lo" }`)
	case 10:
		return "meta protocol " + d.of("ip", "ip", "!= ip", "{ ip, ip6 }")
	case 11:
		return "limit rate " + d.of("1/hour", "1000/second", "over 1/hour")
	case 12:
		return "ct direction " + d.of("original", "reply")
	case 13:
		return d.of("meta mark 0", "meta mark 7", "tcp flags syn", "ip ttl > 3", "meta pkttype host",
			"fib daddr type local", "ip length > 100", "udp length > 0", "ct mark 0", "icmp type echo-request")
	case 14:
		if hook == "output" || hook == "postrouting" {
			return "meta skuid " + d.of("0", "!= 0")
		}
	}
	return ""
}

func (d drawn) rule(hook string, chains []string) string {
	text := d.match(hook)
	if d.IntN(3) == 0 {
		text += " " + d.match(hook)
	}
	if d.IntN(6) == 0 {
		text += " counter"
	}
	verdicts := []string{"accept", "accept", "accept", "drop", "reject", "return", "counter", "meta mark set 7", "log"}
	if hook == "prerouting" || hook == "postrouting" || hook == "regular" {
		verdicts = []string{"accept", "accept", "accept", "drop", "return", "counter", "meta mark set 7"}
	}
	for _, chain := range chains {
		verdicts = append(verdicts, "jump "+chain, "jump "+chain, "goto "+chain)
	}
	switch d.IntN(14) {
	case 0:
		return "ct state vmap { established : accept, related : " + d.of("accept", "drop") + ", invalid : drop" + d.of(
			"",
			", new : "+d.of("accept", "continue", "return"),
		) + " }"
	case 1:
		return d.of("udp", "tcp") + " dport vmap { 69 : " + d.of("accept", "drop") + ", 80 : " + d.of("accept",
			"return") + ", 1024-65535 : " + d.of("accept", "drop", "continue") + " }"
	case 2:
		if len(chains) > 0 {
			return "meta l4proto vmap { tcp : jump " + chains[0] + ", udp : " + d.of("goto ",
				"jump ") + chains[len(chains)-1] + " }"
		}
	}
	return strings.TrimSpace(text + " " + verdicts[d.IntN(len(verdicts))])
}

func (d drawn) ruleset() string {
	var out strings.Builder
	for table := range 1 + d.IntN(2) {
		family := d.of("inet", "inet", "ip")
		fmt.Fprintf(&out, "table %s t%d {\n", family, table)
		fmt.Fprintf(&out, " set doors { type inet_service; flags interval; elements = { %s } }\n",
			d.of("69", "69, 80", "21, 1024-65535", "22"))
		fmt.Fprintf(&out, " set friends { type ipv4_addr; flags interval; elements = { %s } }\n",
			d.of("192.0.2.41", "192.0.2.0/24", "198.51.100.7"))
		var chains []string
		for i := range d.IntN(3) {
			name := fmt.Sprintf("c%d", i)
			fmt.Fprintf(&out, " chain %s {\n", name)
			for range 1 + d.IntN(3) {
				fmt.Fprintf(&out, "  %s\n", d.rule("regular", chains))
			}
			fmt.Fprintf(&out, " }\n")
			chains = append(chains, name)
		}
		for _, hook := range []string{"input", "output", "prerouting", "postrouting"} {
			if d.IntN(map[string]int{"input": 5, "output": 2, "prerouting": 2, "postrouting": 2}[hook]) == 0 != (hook == "input") {
				policy := d.of("accept", "accept", "drop")
				if hook == "prerouting" || hook == "postrouting" {
					policy = d.of("accept", "accept", "accept", "drop")
				}
				fmt.Fprintf(&out, " chain at%s {\n  type filter hook %s priority %d; policy %s;\n", hook, hook,
					d.IntN(3)*10, policy)
				if d.IntN(3) > 0 {
					fmt.Fprintf(&out, "  %s\n",
						d.of("ct state established,related accept", "ct state { established, related } accept",
							"meta l4proto udp accept", "ip saddr 192.0.2.0/24 accept", `iifname "lo" accept`))
				}
				for range d.IntN(4) {
					fmt.Fprintf(&out, "  %s\n", d.rule(hook, chains))
				}
				fmt.Fprintf(&out, " }\n")
			}
		}
		if d.IntN(8) == 0 {
			fmt.Fprintf(&out,
				" chain doors {\n  type nat hook prerouting priority -100;\n  %s %s dport %s redirect to :%s\n }\n", "",
				d.of("udp", "tcp"), d.of("69", "80", "2222"), d.of("6969", "8080"))
		}
		if d.IntN(10) == 0 && family == "ip" {
			fmt.Fprintf(&out, " chain out {\n  type nat hook postrouting priority 100;\n  %s\n }\n",
				d.of(`oifname "wire0" masquerade`, "ip daddr 198.51.100.0/24 masquerade"))
		}
		if d.IntN(10) == 0 {
			fmt.Fprintf(&out, " chain early {\n  type filter hook prerouting priority -300;\n  %s\n }\n",
				d.of("udp dport 69 notrack", "tcp dport 80 notrack", "tcp dport 2222 notrack"))
		}
		fmt.Fprintf(&out, "}\n")
	}
	if d.IntN(8) == 0 {
		fmt.Fprintf(&out,
			"table netdev n {\n chain in {\n  type filter hook ingress device %s priority 0; policy accept;\n  %s\n }\n}\n",
			d.of("wire0", "lo"),
			d.of("udp dport 69 drop", "tcp dport 22 drop", "ip saddr 192.0.2.41 drop", "ether type arp accept"))
	}
	return out.String()
}
