package world

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"endeixis/core/digest"
)

// A Temper is how a gauge behaves.
type Temper string

// The tempers.
const (
	// Plain answers as it should.
	Plain Temper = "plain"
	// Slow answers late, and a few bytes at a time.
	Slow Temper = "slow"
	// OtherCRC computes another CRC-32 than it says, and nothing else.
	OtherCRC Temper = "other-crc"
	// OtherKey shows another host key than the one that was confirmed.
	OtherKey Temper = "other-key"
	// Hanging takes a line and never answers.
	Hanging Temper = "hanging"
	// Rubbish answers with what is no answer, among escapes for a terminal.
	Rubbish Temper = "rubbish"
	// Cutting ends the connection in the middle of the value.
	Cutting Temper = "cutting"
	// OtherSlot hashes the slot that it was not asked for.
	OtherSlot Temper = "other-slot"
	// Endless never stops talking.
	Endless Temper = "endless"
	// Echoing repeats the question, as terminals do, and says nothing else.
	Echoing Temper = "echoing"
	// Coloured puts its answer into colours, as for a terminal.
	Coloured Temper = "coloured"
	// Refusing says that it does not do that now.
	Refusing Temper = "refusing"
	// Several gives two values.
	Several Temper = "several"
	// Silent never shows a prompt.
	Silent Temper = "silent"
	// Chatting prints a message and its prompt once more before it answers, and Late answers
	// only when the next question has come.
	Chatting Temper = "chatting"
	Late     Temper = "late"
	// Paging stops for a key before it answers, and erases its question; it has to be unlocked
	// first. Old computes MD5 and CRC-32 alone.
	Paging Temper = "paging"
	Old    Temper = "old"
	// Nameless is as Late, and names no slot in its answers.
	Nameless Temper = "nameless"
)

// A Gauge is a tide gauge with two slots, whose console is reached over SSH. It is like
// what the kind harbour-gauge describes.
type Gauge struct {
	Name   string
	Temper Temper
	// Slots has the image in each, by the name that its console uses.
	Slots map[string][]byte
	// Host is its key; OtherKey has it show another.
	Host ssh.Signer
	// Client is the key that it lets in, as User.
	Client ssh.PublicKey
	User   string
	// Takes is how long it takes to hash a slot.
	Takes time.Duration
}

// Serve serves connections until ctx ends or the listener is closed.
func (g *Gauge) Serve(ctx context.Context, listener net.Listener) {
	config := &ssh.ServerConfig{
		PublicKeyCallback: func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if c.User() != g.User || !bytes.Equal(key.Marshal(), g.Client.Marshal()) {
				return nil, errors.New("not let in")
			}
			return nil, nil
		},
	}
	host := g.Host
	if g.Temper == OtherKey {
		if signer, err := HostKey("the key of whatever answers for " + g.Name); err == nil {
			host = signer
		}
	}
	config.AddHostKey(host)
	stop := context.AfterFunc(ctx, func() { listener.Close() })
	defer stop()
	var open sync.WaitGroup
	defer open.Wait()
	for {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		open.Go(func() { g.serve(ctx, conn, config) })
	}
}

func (g *Gauge) serve(ctx context.Context, conn net.Conn, config *ssh.ServerConfig) {
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	_, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for offered := range channels {
		if offered.ChannelType() != "session" {
			offered.Reject(ssh.UnknownChannelType, "only sessions") //nolint:errcheck // they notice
			continue
		}
		channel, asked, err := offered.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range asked {
				shell := r.Type == "shell"
				if r.WantReply {
					r.Reply(shell || r.Type == "pty-req", nil) //nolint:errcheck // they notice
				}
				if shell {
					go g.console(ctx, channel, conn)
				}
			}
		}()
	}
}

var askedSlot = regexp.MustCompile(`^sum slot (\w+) with (\S+)$`)

// console is the gauge's prompt.
func (g *Gauge) console(ctx context.Context, to ssh.Channel, conn io.Closer) {
	defer to.Close()
	say := func(text string) { io.WriteString(to, text) } //nolint:errcheck // they may be gone
	if g.Temper == Silent {
		<-ctx.Done()
		return
	}
	say("Tidewright gauge controller\r\n\r\n" + g.Name + "> ")
	var line []byte
	owed := "" // what it has not answered yet
	unlocked := false
	key := func() { to.Read(make([]byte, 1)) } //nolint:errcheck // they may be gone
	for buffer := make([]byte, 256); ; {
		n, err := to.Read(buffer)
		for _, b := range buffer[:n] {
			if b != '\r' && b != '\n' {
				line = append(line, b)
				continue
			}
			if text := strings.TrimSpace(string(line)); text != "" {
				say(text + "\r\n") // as terminals do
				now := say
				if g.Temper == Late || g.Temper == Nameless {
					say(owed)
					owed = ""
					now = func(text string) { owed += text }
					say("tide 4.2 m\r\n")
				}
				switch {
				case g.Temper == Paging && text == "unlock":
					unlocked = true
				case g.Temper == Paging && !unlocked:
					say("cannot: it is locked\r\n")
				default:
					if g.Temper == Paging {
						say("tide 4.2 m\r\ntide 4.3 m\r\n--More--")
						key()
						say(strings.Repeat("\b", 8) + strings.Repeat(" ", 8) + strings.Repeat("\b", 8))
					}
					if !g.answer(ctx, now, conn, text) {
						return
					}
				}
				say(g.Name + "> ")
			}
			line = nil
		}
		if err != nil || len(line) > 1000 {
			return
		}
	}
}

// answer carries out a line, and reports whether the console goes on.
func (g *Gauge) answer(ctx context.Context, say func(string), conn io.Closer, line string) bool {
	wait := func(d time.Duration) {
		select {
		case <-ctx.Done():
		case <-time.After(d):
		}
	}
	found := askedSlot.FindStringSubmatch(line)
	if found == nil {
		say("cannot: no such command\r\n")
		return true
	}
	slot, word := found[1], found[2]
	image, there := g.Slots[slot]
	algorithm, err := digest.Parse(word)
	if !there || err != nil || g.Temper == OtherCRC && algorithm != digest.CRC32 ||
		g.Temper == Old && algorithm.Size() > digest.MD5.Size() {
		say("cannot: no such slot or sum\r\n")
		return true
	}
	wait(g.Takes)
	h := algorithm.New()
	if g.Temper == OtherCRC {
		h = digest.CRC32C.New()
	}
	if g.Temper == OtherSlot {
		for other, content := range g.Slots {
			if other != slot {
				slot, image = other, content
				break
			}
		}
	}
	h.Write(image)
	value := fmt.Sprintf("%x", h.Sum(nil))
	answer := fmt.Sprintf("slot %s, %d bytes, %s: %s\r\n", slot, len(image), word, value)
	switch g.Temper {
	case Hanging:
		<-ctx.Done()
		return false
	case Slow:
		for piece := range slices.Chunk([]byte(answer), 7) {
			wait(20 * time.Millisecond)
			say(string(piece))
		}
		return true
	case Rubbish:
		say("\x1b[2J\x1b[31m\x1b]0;all is well\x07E2: \u202evalue at 7f3a\x00\xff\r\n")
		return true
	case Cutting:
		say(answer[:len(answer)-12])
		conn.Close()
		return false
	case Endless:
		for block := strings.Repeat("tide 4.2 m\r\n", 4096); ctx.Err() == nil; {
			say(block)
		}
		return false
	case Echoing:
		return true
	case Coloured:
		say("\x1b[1;32m" + strings.Replace(answer, "\r\n", "\x1b[0m\r\n", 1))
		return true
	case Refusing:
		say("cannot: the slot is being written\r\n")
		return true
	case Several:
		say(answer + strings.Replace(answer, value, strings.Repeat("0", len(value)), 1))
		return true
	case Nameless:
		_, answer, _ = strings.Cut(answer, ", ")
	case Chatting:
		say("tide 4.2 m\r\n" + g.Name + "> ")
		wait(300 * time.Millisecond)
		say("\r\n")
	case Plain, OtherCRC, OtherKey, OtherSlot, Silent, Late, Paging, Old:
	}
	say(answer)
	return true
}

// HostKey returns a key that follows from a seed: it is made up, and no secret.
func HostKey(seed string) (ssh.Signer, error) {
	sum := digest.SHA256.New()
	io.WriteString(sum, seed) //nolint:errcheck // a hash takes everything
	return ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(sum.Sum(nil)))
}

// PrivateKey returns the private key that follows from a seed, as OpenSSH writes it.
func PrivateKey(seed string) ([]byte, error) {
	sum := digest.SHA256.New()
	io.WriteString(sum, seed) //nolint:errcheck // a hash takes everything
	block, err := ssh.MarshalPrivateKey(ed25519.NewKeyFromSeed(sum.Sum(nil)), seed)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(block), nil
}

// gaugeFile is how a gauge is described in a folder.
type gaugeFile struct {
	Name         string            `json:"name"`
	Temper       Temper            `json:"temper"`
	Slots        map[string]string `json:"slots"` // files beside it, by slot
	HostSeed     string            `json:"host_seed"`
	ClientSeed   string            `json:"client_seed"`
	User         string            `json:"user"`
	Milliseconds int               `json:"milliseconds"`
}

// WriteGauge writes a gauge into a folder of its own below dir, for [ReadGauges].
func WriteGauge(dir string, g *Gauge, hostSeed, clientSeed string) error {
	out := gaugeFile{
		Name: g.Name, Temper: g.Temper, Slots: map[string]string{}, HostSeed: hostSeed, ClientSeed: clientSeed,
		User: g.User, Milliseconds: int(g.Takes.Milliseconds()),
	}
	folder := filepath.Join(dir, g.Name)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for slot, image := range g.Slots {
		out.Slots[slot] = "slot-" + slot + ".bin"
		if err := os.WriteFile(filepath.Join(folder, out.Slots[slot]), image, 0o644); err != nil {
			return err
		}
	}
	text, err := json.MarshalIndent(out, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(folder, "gauge.json"), text, 0o644)
}

// ReadGauges reads the gauges that [WriteGauge] wrote, by their names.
func ReadGauges(dir string) ([]*Gauge, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	var out []*Gauge
	for _, entry := range entries {
		folder := filepath.Join(dir, entry.Name())
		text, err := os.ReadFile(filepath.Join(folder, "gauge.json"))
		if err != nil {
			return nil, err
		}
		var f gaugeFile
		if err := json.Unmarshal(text, &f); err != nil {
			return nil, err
		}
		g := &Gauge{
			Name: f.Name, Temper: f.Temper, Slots: map[string][]byte{}, User: f.User,
			Takes: time.Duration(f.Milliseconds) * time.Millisecond,
		}
		if g.Host, err = HostKey(f.HostSeed); err != nil {
			return nil, err
		}
		client, err := HostKey(f.ClientSeed)
		if err != nil {
			return nil, err
		}
		g.Client = client.PublicKey()
		for slot, file := range f.Slots {
			if g.Slots[slot], err = os.ReadFile(filepath.Join(folder, file)); err != nil {
				return nil, err
			}
		}
		out = append(out, g)
	}
	return out, nil
}
