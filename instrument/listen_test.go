package instrument_test

import (
	"net"
	"strconv"
	"strings"
	"testing"

	"wexter/core/record"
	"wexter/instrument"
)

// An instrument of this computer answers at one of its ports, each at another.
func TestListen(t *testing.T) {
	seen := map[string]bool{}
	for range 5 {
		l, err := instrument.Listen("127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		_, port, _ := net.SplitHostPort(l.Addr().String())
		if n, err := strconv.Atoi(port); err != nil || !record.OwnPort(n) || seen[port] {
			t.Errorf("it listens at %s", l.Addr())
		}
		seen[port] = true
	}
	for _, c := range [][2]string{{"127.0.0.1:631", "4100 to 4399"}, {"127.0.0.1:x", "not at x"}, {"127.0.0.1", "port"}} {
		if l, err := instrument.Listen(c[0]); err == nil || !strings.Contains(err.Error(), c[1]) {
			t.Errorf("%s: %v, %v", c[0], l, err)
		}
	}
}
