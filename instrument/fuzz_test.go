package instrument_test

import (
	"context"
	"math"
	"net"
	"strings"
	"testing"

	"wexter/ingest"
	"wexter/instrument"
)

// over joins whatever is dialled to a connection.
func over(conn net.Conn) instrument.Dialer {
	return instrument.Dialer{Wire: func(context.Context, string) (net.Conn, error) { return conn, nil }}
}

// said is a connection on which somebody says text and hangs up, whatever he is told.
func said(text []byte) net.Conn {
	mine, theirs := net.Pipe()
	go func() { // what is sent to him he takes, and does not heed
		buf := make([]byte, 4096)
		for {
			if _, err := theirs.Read(buf); err != nil {
				return
			}
		}
	}()
	go func() {
		_, _ = theirs.Write(text)
		theirs.Close()
	}()
	return mine
}

const greeting = `{"protocol":1,"name":"m","serial":"1","session":"s","range_pa":5000,"rate_hz":10}` + "\n"

// Whatever a module sends, what is taken for a reading can be one.
func FuzzModuleLines(f *testing.F) {
	for _, s := range []string{`{"n":1,"t":0.1,"pa":3.5}`, `{"n":1,"t":0.1,"pa":1e99}`, `{"n":1,"t":null,"pa":"x"}`, `{"fault":"the sensor is unplugged"}`, `{"done":"open"}`, `[]`, `{"n":1,"t":-1e308,"pa":3,"wall_k":1}`, "\x00\x01", strings.Repeat("9", 40000)} {
		f.Add([]byte(greeting + s + "\n"))
		f.Add([]byte(s + "\n"))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		conn := said(text)
		defer conn.Close()
		m, err := over(conn).Module(ctx, "here")
		if err != nil {
			return
		}
		if a := m.About(); a.Check() != nil {
			t.Fatalf("taken for a module: %+v", a)
		}
		for range 50 {
			r, err := m.Next(context.Background())
			if err != nil {
				return
			}
			if math.IsNaN(r.Time) || math.IsInf(r.Time, 0) || r.Fault == "" && len(r.Values) == 0 {
				t.Fatalf("taken for a reading: %+v", r)
			}
			for _, v := range r.Values {
				c, known := m.About().Channel(v.Channel)
				if !known || math.IsNaN(v.Value) || math.IsInf(v.Value, 0) || c.Low < c.High && !v.Over && (v.Value < c.Low-0.02*(c.High-c.Low)-c.Resolution || v.Value > c.High+0.02*(c.High-c.Low)+c.Resolution) {
					t.Fatalf("taken for a value: %+v of %+v", v, c)
				}
			}
		}
	})
}

// Whatever an adapter sends, its answer ends, and reading it as a scan gives codes or a
// sentence.
func FuzzAdapterLines(f *testing.F) {
	hello := `{"protocol":1,"adapter":"a"}` + "\n"
	for _, s := range []string{"41 00 BE 3E B8 13\n\n", "searching\n41 0C 1A F8\n\n", "no data\n\n", "error: bus\n\n", "7E8 10 14 49 02 01 31\n\n", "zz\n\n", strings.Repeat("41 00\n", 500), "\x00"} {
		f.Add([]byte(hello + s))
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		conn := said(text)
		defer conn.Close()
		a, err := over(conn).Adapter(ctx, "here")
		if err != nil {
			return
		}
		lines, err := a.Ask(context.Background(), "0100")
		if len(lines) > 400 {
			t.Fatalf("%d lines of one answer", len(lines))
		}
		if err != nil {
			return
		}
		s, err := ingest.ReadScan([]byte("> 01 00\n" + strings.Join(lines, "\n")))
		if err != nil {
			return
		}
		for _, v := range s.Live {
			if math.IsNaN(v.Value) {
				t.Fatalf("%+v", v)
			}
		}
	})
}
