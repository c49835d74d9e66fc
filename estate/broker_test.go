//go:build linux

package estate

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"timegate/core/coretest"
	"timegate/workstation/here"
	"timegate/workstation/rights"
	"timegate/workstation/wstest"
)

func TestMain(m *testing.M) {
	os.Args = append(os.Args[:1:1], rights.Become(os.Args[1:])...)
	if status, ok := Help(os.Args[1:]); ok { // the tests' program is the network's process, too
		os.Exit(status)
	}
	os.Exit(coretest.Main(m))
}

// realBroker is a broker of its own, with TLS and passwords.
type realBroker struct {
	dir       string
	address   string
	port      int
	authority []byte // PEM
	cmd       *exec.Cmd
}

// startBroker starts one on this machine alone.
func startBroker(t testing.TB) *realBroker { return startBrokerAt(t, "127.0.0.1", "127.0.0.1") }

// startBrokerAt starts one that listens at an address and is reached by some: maren may do all,
// a workstation may write its own topics alone.
func startBrokerAt(t testing.TB, listen string, reached ...string) *realBroker {
	t.Helper()
	program := wstest.Need(t, "mosquitto", "mosquitto")
	dir, err := os.MkdirTemp("", "broker") // the broker gives up root's rights, and must get there
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	r := &realBroker{dir: dir, address: reached[0], port: freePort(t)}
	cert, key := r.certificate(t, reached)
	conf, rules := sample(t)
	conf = strings.NewReplacer("listener 8883", fmt.Sprintf("listener %d %s", r.port, listen), "/etc/mosquitto/timegate", dir, "/var/lib/mosquitto", dir).Replace(conf)
	for name, data := range map[string][]byte{"cert.pem": cert, "key.pem": key, "conf": []byte(conf), "passwords": nil, "rules": []byte(rules)} {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, user := range []string{"maren", "press-room", "front-desk", "studio-laptop"} {
		wstest.Do(t, "mosquitto_passwd", "-b", filepath.Join(dir, "passwords"), user, "secret-"+user)
	}
	if err := os.Chmod(filepath.Join(dir, "passwords"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(dir, 0o777); err != nil {
		t.Fatal(err)
	}
	r.cmd = exec.Command(program, "-c", filepath.Join(dir, "conf"))
	r.begin(t)
	t.Cleanup(func() { r.cmd.Process.Kill(); r.cmd.Wait() })
	return r
}

// sample returns the settings and the rules of a broker that the documentation has.
func sample(t testing.TB) (conf, rules string) {
	t.Helper()
	text, err := os.ReadFile("../docs/estate.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, block := range strings.Split(string(text), "```\n") {
		switch {
		case strings.HasPrefix(block, "per_listener_settings"):
			conf = block
		case strings.HasPrefix(block, "user maren"):
			rules = block
		}
	}
	if conf == "" || rules == "" {
		t.Fatal("the documentation has no sample of a broker")
	}
	return conf, rules
}

// TestSample: the sample of a broker's rules lets everybody write what [MayUse] says, and nothing
// else.
func TestSample(t *testing.T) {
	t.Parallel()
	r := startBroker(t)
	for _, who := range []string{"press-room", "maren"} {
		c, err := Connect(t.Context(), r.reached(who), func(Message) {})
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		for _, topic := range []string{bundleTopic, releaseTopic, trialTopic, echoTopic + "x", "other", hostTopic + "press-room", hostTopic + "press-room/other",
			hostTopic + "press-room" + requestOf, hostTopic + "press-room" + reportOf, hostTopic + "press-room" + onOf, hostTopic + "press-room" + joiningOf,
			hostTopic + "press-room" + forecastOf, hostTopic + "press-room" + answerOf + "x", hostTopic + "front-desk" + reportOf, hostTopic + "front-desk" + onOf,
			hostTopic + "front-desk" + requestOf, hostTopic + "front-desk" + answerOf + "x"} {
			err := c.Publish(t.Context(), topic, []byte("x"), false)
			if may := MayUse("larkspur", who, who == "maren", root("larkspur")+topic, true); may != (err == nil) {
				t.Errorf("%s writes %s: %v, and may: %v", who, topic, err, may)
			}
		}
	}
}

// begin starts the broker, and waits until it can be reached.
func (r *realBroker) begin(t testing.TB) {
	t.Helper()
	r.cmd = exec.Command(r.cmd.Path, r.cmd.Args[1:]...)
	if err := r.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	wstest.Await(t, "the broker", func() bool {
		c, err := net.Dial("tcp", net.JoinHostPort(r.address, strconv.Itoa(r.port)))
		if err == nil {
			c.Close()
		}
		return err == nil
	})
}

// kill ends the broker at once.
func (r *realBroker) kill() {
	r.cmd.Process.Kill()
	r.cmd.Wait()
}

func freePort(t testing.TB) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// certificate makes an authority, and a certificate of this machine that it has signed.
func (r *realBroker) certificate(t testing.TB, reached []string) (cert, key []byte) {
	t.Helper()
	make := func(c, parent *x509.Certificate, by *ecdsa.PrivateKey) ([]byte, *ecdsa.PrivateKey) {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		if by == nil {
			by = k
		}
		der, err := x509.CreateCertificate(rand.Reader, c, parent, &k.PublicKey, by)
		if err != nil {
			t.Fatal(err)
		}
		return der, k
	}
	root := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Larkspur Bindery"}, NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	rootDER, rootKey := make(root, root, nil)
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), DNSNames: []string{"localhost"}, NotAfter: time.Now().Add(time.Hour)}
	for _, address := range reached {
		leaf.IPAddresses = append(leaf.IPAddresses, net.ParseIP(address))
	}
	leafDER, leafKey := make(leaf, root, rootKey)
	keyDER, err := x509.MarshalPKCS8PrivateKey(leafKey)
	if err != nil {
		t.Fatal(err)
	}
	r.authority = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: rootDER})
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leafDER}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: keyDER})
}

// reached is how somebody reaches the broker.
func (r *realBroker) reached(user string) Broker {
	return Broker{URL: fmt.Sprintf("mqtts://%s:%d", r.address, r.port), Shop: "larkspur", Authority: r.authority, User: user, Password: []byte("secret-" + user)}
}

// startNetwork starts the network's process as a workstation does.
func startNetwork(argument string, files []*os.File) (*os.Process, error) {
	return here.StartSelf(here.SelfOrder{Args: []string{argument}, Files: files})
}
