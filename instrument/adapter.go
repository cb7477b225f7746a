package instrument

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"
)

// AdapterAbout is the first line of a scan adapter.
type AdapterAbout struct {
	Protocol  int    `json:"protocol"` // 1
	Adapter   string `json:"adapter"`  // its name
	Simulated bool   `json:"simulated"`

	Commands []string `json:"commands,omitempty"` // parts whose valves it can command
	Keeps    bool     `json:"keeps,omitempty"`    // it lets a valve go that nobody asks for again
	Modes    []string `json:"modes,omitempty"`    // of a simulated car's driver
}

// CarState is what a simulated car shows about itself: the truth beside what its control
// unit says. Pressures are Pa gauge by part, Open and Smoke shares, Live by PID.
type CarState struct {
	Time      float64            `json:"time_s"`
	Mode      string             `json:"mode"`
	Running   bool               `json:"running"`
	Stalled   bool               `json:"stalled,omitempty"`
	Pressures map[string]float64 `json:"pressure_pa"`
	Open      map[string]float64 `json:"open"`
	Smoke     map[string]float64 `json:"smoke"`
	Live      map[string]float64 `json:"live"`
	Stored    []string           `json:"stored"`
	Pending   []string           `json:"pending"`
	Blocked   string             `json:"blocked,omitempty"`
}

// Adapter is a connection to a scan adapter: it takes a request in hex a line and
// answers with lines of hex or words ("searching", "no data", "error …"), ended by
// an empty line.
type Adapter struct {
	// Patience is how long one line of an answer may take.
	Patience time.Duration

	about AdapterAbout
	conn  net.Conn
	in    *bufio.Scanner
}

// Words of an adapter.
const (
	Searching = "searching"
	NoData    = "no data"
	ErrorWord = "error"
)

const (
	answerWait = 12 * time.Second // a search of the bus takes some seconds
	toolWait   = 90 * time.Second // a technician does a whole test
	maxLines   = 400
)

func attachAdapter(conn net.Conn, address string, patience time.Duration) (*Adapter, error) {
	a := &Adapter{Patience: patience, conn: conn, in: bufio.NewScanner(conn)}
	a.in.Buffer(make([]byte, maxLine), maxLine)
	_ = conn.SetReadDeadline(time.Now().Add(max(patience, reachWait)))
	if !a.in.Scan() || json.Unmarshal(a.in.Bytes(), &a.about) != nil || a.about.Protocol != 1 || a.about.Adapter == "" {
		conn.Close()
		return nil, fmt.Errorf("what answers at %s is no scan adapter", address)
	}
	return a, nil
}

// About says what the adapter is.
func (a *Adapter) About() AdapterAbout { return a.about }

// CAN reports whether several data can be asked for at once; these adapters take one.
func (a *Adapter) CAN() bool { return false }

// Close ends the connection.
func (a *Adapter) Close() error { return a.conn.Close() }

// Ask sends one request and returns the lines of its answer.
func (a *Adapter) Ask(ctx context.Context, request string) ([]string, error) {
	stop := context.AfterFunc(ctx, func() { _ = a.conn.SetDeadline(time.Now()) })
	defer stop()
	wait := a.Patience
	end := time.Now().Add(max(answerWait, a.Patience))
	_ = a.conn.SetDeadline(time.Now().Add(wait))
	if _, err := fmt.Fprintf(a.conn, "%s\n", request); err != nil {
		return nil, a.gone(ctx)
	}
	var out []string
	for {
		_ = a.conn.SetReadDeadline(time.Now().Add(wait))
		if ctx.Err() != nil || time.Now().After(end) || !a.in.Scan() {
			return out, a.gone(ctx)
		}
		line := strings.TrimSpace(a.in.Text())
		if line == "" {
			return out, nil
		}
		if len(out) >= maxLines {
			return out, errors.New("the adapter does not stop sending")
		}
		out = append(out, line)
	}
}

func (a *Adapter) gone(ctx context.Context) error {
	if ctx.Err() != nil {
		return errors.New("the scan was stopped")
	}
	return errAdapterGone
}

var errAdapterGone = errors.New("the adapter no longer answers")

// Work commands a valve ("command PART 50"), or works on a simulated car as its driver
// or a technician would; the error is what the adapter said.
func (a *Adapter) Work(ctx context.Context, words string) error {
	if strings.ContainsAny(words, "\r\n") {
		return errors.New("one line at a time")
	}
	lines, err := a.Ask(ctx, "@"+words)
	if err != nil {
		return err
	}
	if said := strings.Join(lines, " "); said != "done" {
		return errors.New(strings.TrimPrefix(said, ErrorWord+": "))
	}
	return nil
}

// AskTool sends one line of words to an instrument of a simulated car that takes them, or
// to its scan adapter's driver, and returns what it says.
func AskTool(ctx context.Context, address, words string) (string, error) {
	if words == "" || len(words) > 200 || strings.ContainsAny(words, "\r\n") {
		return "", errors.New("one line of at most 200 characters is needed")
	}
	d := Dialer{Patience: toolWait}
	if a, err := d.Adapter(ctx, address); err == nil {
		defer a.Close()
		lines, err := a.Ask(ctx, words)
		said := strings.Join(lines, "\n")
		if why, bad := strings.CutPrefix(said, ErrorWord+": "); bad && err == nil {
			err = errors.New(why)
		}
		return said, err
	}
	m, err := d.Module(ctx, address)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithCancel(ctx)
	listens := make(chan struct{})
	defer func() { cancel(); m.Close(); <-listens }()
	go func() {
		defer close(listens)
		for {
			if _, err := m.Next(ctx); err != nil {
				return
			}
		}
	}()
	return m.Ask(ctx, Command{Do: Ask, Words: words})
}
