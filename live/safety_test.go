package live_test

import (
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"wexter/core/record"
	"wexter/core/sim"
	"wexter/instrument"
)

// tight is a system that holds what it is charged with.
var tight = sim.Vessel{Volume: 0.033, Leak: 0.2e-3, Orifice: 0.508e-3}

// charged has the rig charge the system, and waits until it has shut off.
func (x shop) charged(t *testing.T) {
	t.Helper()
	must(t, x.bench.Rig(ctx, instrument.Charge))
	until(t, "the rig shuts off", func() bool { view(x.bench); return x.module.Port() == sim.Seal })
}

// opens waits, without looking at the bench, until the rig stands open, and returns how long
// that took.
func (x shop) opens(t *testing.T) time.Duration {
	t.Helper()
	began := time.Now()
	for x.module.Port() != sim.Open {
		if time.Since(began) > 10*time.Minute {
			t.Fatal("the rig is left as it was")
		}
		time.Sleep(100 * time.Millisecond)
	}
	return time.Since(began)
}

// As long as somebody looks the rig stays shut; whatever ends that, it stands open a little
// more than a minute later: Wexter killed, the link gone without a word, the last browser
// closed. Stop opens it at once.
func TestTheRigIsNeverLeft(t *testing.T) {
	t.Run("somebody looks", func(t *testing.T) {
		run(t, tight, "engine-vacuum", func(t *testing.T, x shop) {
			x.charged(t)
			for began := time.Now(); time.Since(began) < 5*time.Minute; time.Sleep(time.Second) {
				view(x.bench)
				if x.module.Port() != sim.Seal {
					t.Fatalf("it stands %s after %v", x.module.Port(), time.Since(began))
				}
			}
		})
	})
	t.Run("killed", func(t *testing.T) {
		run(t, tight, "engine-vacuum", func(t *testing.T, x shop) {
			x.charged(t)
			must(t, x.hub.Close()) // says nothing to the rig, as when the process is killed
			if took := x.opens(t); took < 30*time.Second || took > 75*time.Second {
				t.Errorf("after %v", took)
			}
		})
	})
	t.Run("the link is gone", func(t *testing.T) {
		run(t, tight, "engine-vacuum", func(t *testing.T, x shop) {
			x.charged(t)
			x.wires.deaf.Store(true)
			began := time.Now()
			until(t, "it opens by itself", func() bool { view(x.bench); return x.module.Port() == sim.Open })
			if took := time.Since(began); took > 75*time.Second {
				t.Errorf("after %v", took)
			}
		})
	})
	t.Run("the last browser is closed", func(t *testing.T) {
		run(t, tight, "engine-vacuum", func(t *testing.T, x shop) {
			must(t, x.bench.Start(ctx, record.RunDrift)) // sealed, for longer than a minute
			time.Sleep(time.Second)
			if took := x.opens(t); took < 50*time.Second || took > 75*time.Second {
				t.Errorf("after %v", took)
			}
			synctest.Wait()
			l := x.result(t)
			r := l.Runs[len(l.Runs)-1]
			if r.EndedAt == nil || r.Readings < 300 || !strings.Contains(strings.Join(r.Notes, " "), "Nobody was looking") {
				t.Errorf("%+v", r)
			}
		})
	})
	t.Run("the last browser is closed between two legs", func(t *testing.T) {
		run(t, tight, "engine-vacuum", func(t *testing.T, x shop) {
			x.charged(t)
			if took := x.opens(t); took > 35*time.Second {
				t.Errorf("after %v", took)
			}
		})
	})
	t.Run("stopped", func(t *testing.T) {
		run(t, tight, "engine-vacuum", func(t *testing.T, x shop) {
			must(t, x.bench.Start(ctx, record.RunRig))
			until(t, "it is charged", func() bool { return view(x.bench).Phase == "settle" })
			must(t, x.bench.Stop())
			if took := x.opens(t); took > time.Second {
				t.Errorf("after %v", took)
			}
		})
	})
}

// deafConn is a link over which nothing that is sent arrives any more.
type deafConn struct {
	net.Conn
	deaf *atomic.Bool
}

func (c deafConn) Write(b []byte) (int, error) {
	if c.deaf.Load() {
		return len(b), nil
	}
	return c.Conn.Write(b)
}

// A bench where nothing is read and nobody looks gives its module to the one that wants it;
// one that is looked at keeps it. Both see the module over one connection.
func TestModuleIsTakenOver(t *testing.T) {
	run(t, tight, "engine-vacuum", func(t *testing.T, x shop) {
		other, err := x.StartTest(ctx, "", caseOf(t, x), "")
		must(t, err)
		view(x.bench)
		if err := x.hub.Join(ctx, other, seatsAt(t, x.Shop, benchAddress)); err == nil || !strings.Contains(err.Error(), "is on another bench") {
			t.Errorf("taken from under somebody's eyes: %v", err)
		}
		time.Sleep(3 * time.Second)
		d, err := x.Device(ctx, record.Module, benchAddress)
		must(t, err)
		r, err := x.hub.Watch(d)
		must(t, err)
		if p, ok := r.Last[instrument.PressureKey]; !ok || r.Bench == "" || p.Over {
			t.Errorf("beside the bench it shows %+v", r)
		}
		if n := x.wires.dialled.Load(); n != 1 {
			t.Errorf("dialled %d times", n)
		}
		must(t, x.hub.Join(ctx, other, seatsAt(t, x.Shop, benchAddress)))
		if _, there := x.hub.Look(x.id); there {
			t.Error("the module is on two benches")
		}
		b, _ := x.hub.Look(other)
		until(t, "the module is read on its new bench", func() bool { return b.Since(-1, "", 0, -1).Now != nil })
		must(t, b.Start(ctx, record.RunZero))
		time.Sleep(3 * time.Second)
		if err := x.hub.Join(ctx, x.id, seatsAt(t, x.Shop, benchAddress)); err == nil {
			t.Error("taken while it is read")
		}
	})
}

func caseOf(t *testing.T, x shop) string {
	t.Helper()
	l, err := x.LiveTest(ctx, x.id)
	must(t, err)
	return l.Case.ID
}
