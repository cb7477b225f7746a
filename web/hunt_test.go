package web_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"

	"wexter/standin"
)

// technician does a test of the Book on a simulated car; words are the test and the part.
func technician(t *testing.T, p *standin.Plant, words ...string) (done standin.Tried) {
	t.Helper()
	said, err := standin.Tools(p)[0].Answer("try " + strings.Join(words, " "))
	if err == nil {
		err = json.Unmarshal([]byte(said), &done)
	}
	if err != nil {
		t.Fatalf("%v: %v", words, err)
	}
	return done
}

// typed puts what instruments showed into the fields of a test's page.
func typed(v url.Values, done standin.Tried) url.Values {
	for _, r := range done.Readings {
		for i, said := range r.Said {
			v.Set(fmt.Sprintf("read-%s-%d", r.Key, i), said)
		}
		for i, p := range r.Places {
			at := fmt.Sprintf("read-%s-%d", r.Key, i)
			v.Set(at, p.Part)
			v.Set(at+"-size", p.Size)
			if p.Expected {
				v.Set(at+"-expected", "1")
			}
		}
		if len(r.Said)+len(r.Places) == 0 {
			v.Set("read-"+r.Key+"-none", "1")
		}
	}
	return v
}

// holds brings the legs of a hold in on its bench.
func (b *browser) holds(c string, done standin.Tried) {
	b.t.Helper()
	ctx := context.Background()
	_, _, at := b.post(c+"/tests", b.fill(c))
	id := strings.TrimPrefix(at, "/tests/")
	f, err := b.shop.Load(ctx, strings.TrimPrefix(c, "/cases/"))
	if err != nil {
		b.t.Fatal(err)
	}
	x, ok := f.Test(id)
	if !ok {
		b.t.Fatalf("no bench at %s", at)
	}
	x.Setup.Level, x.Setup.VolumeTolerance = 0.4, 0.15
	arch, _ := b.shop.Book.Archetype(f.Vehicle.Archetype)
	for _, s := range arch.Seal {
		x.Setup.Sealed = append(x.Setup.Sealed, s.Do)
	}
	if err := b.shop.SaveSetup(ctx, "", id, x.Version, x.Setup); err != nil {
		b.t.Fatal(err)
	}
	for leg, kind := range []string{"drift", "hold"} {
		var csv bytes.Buffer
		csv.WriteString("time_s,pressure_Pa,temp (K)\n")
		for _, r := range done.Log {
			if int(r[0]) == leg {
				fmt.Fprintf(&csv, "%g,%g,%g\n", r[1], r[2], r[3])
			}
		}
		if code, body, _ := b.upload(at+"/legs", b.fill(at, "kind", kind), "csv", kind+".csv", csv.Bytes()); code != 200 {
			b.t.Fatalf("the %s leg: %d %s", kind, code, body)
		}
	}
}

var (
	nextTest = regexp.MustCompile(`data-next="([^"]*)" data-at="([^"]*)" data-plug="([^"]*)"`)
	offered  = regexp.MustCompile(`class="foundoffer"><h2>[\s\S]*?found\?part=([^"&]*)"`)
	anyCode  = regexp.MustCompile(`[PCBU][0-9A-F]{4}`)
)

// follow does what is next on a case until a part has been singled out, and writes it down.
func (b *browser) follow(c string, p *standin.Plant) (fault string, did []string) {
	b.t.Helper()
	for range 16 {
		_, body := b.get(c)
		if m := offered.FindStringSubmatch(body); m != nil {
			if code, body, _ := b.post(c+"/found", b.fill(c+"/found?part="+m[1], "part", m[1], "how", "followed what was next")); code != 200 || !strings.Contains(body, "rests on") {
				b.t.Errorf("%s is not written down: %d", m[1], code)
			}
			return m[1], did
		}
		m := nextTest.FindStringSubmatch(body)
		if m == nil {
			b.t.Fatalf("nothing is next after %v", did)
		}
		words := slices.DeleteFunc(slices.Clone(m[1:]), func(s string) bool { return s == "" })
		did = append(did, strings.Join(words, " "))
		done := technician(b.t, p, words...)
		if m[1] == "decay" {
			b.holds(c, done)
			continue
		}
		do := c + "/do/" + m[1]
		if code, body, _ := b.post(do, typed(b.fill(do, "on", m[2]), done)); code != 200 {
			b.t.Fatalf("%v is not taken: %d %s", words, code, body)
		}
	}
	b.t.Fatalf("nothing was singled out by %v", did)
	return "", nil
}

// From one code to a found part by doing what is next, on simulated cars with one fault each.
func TestFollowingNext(t *testing.T) {
	const plain = "na-maf no-boost fixed-valve no-egr "
	for _, c := range []struct {
		name, car, fault string
		severity         float64
	}{
		{"cooling by itself, one switch", plain + "eonv-switch-remote", "canister-coupler", 0.5},
		{"an electric pump", plain + "pump-current", "quick-connect", 0.85},
		{"boost", "turbo-diesel charged regulator-inlet no-egr no-vapour", "charge-hose", 0.95},
		{"crankcase", plain + "engine-vacuum", "pcv-line", 0.2},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := start(t, false)
			keys := strings.Fields(c.car)
			file, err := standin.ReadCarFile(fmt.Appendf(nil, "name: x\narchetypes: [%s]\nfaults: {%s: %g}\nlevel: 0.4\nseed: 7\n", strings.Join(keys, ", "), c.fault, c.severity))
			if err != nil {
				t.Fatal(err)
			}
			p, err := standin.NewPlant(file, b.shop.Book, 0)
			if err != nil {
				t.Fatal(err)
			}
			code := anyCode.FindString(fmt.Sprint(technician(t, p, "readiness").Readings))
			if code == "" {
				t.Fatal("the simulated car has no code")
			}
			v := b.fill("/cases/new", "plate", "SQ 1", "make", "Quillane", "model", "Stint", "year", "2019", "odometer", "80000", "tank", "55 L",
				"engine", keys[0], "boost", keys[1], "crankcase", keys[2], "recirculation", keys[3], "archetype", keys[4], "metering", "maf", "complaint", "lamp on", "codes", code)
			status, body, at := b.post("/cases", v)
			if status != 200 {
				t.Fatalf("%d %s", status, body)
			}
			fault, did := b.follow(at, p)
			t.Logf("%s by %s", fault, strings.Join(did, ", "))
			if fault != c.fault {
				t.Errorf("found %s by %v, want %s", fault, did, c.fault)
			}
		})
	}
}
