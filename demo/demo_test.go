package demo_test

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"wexter/casework"
	"wexter/core/obd"
	"wexter/core/record"
	"wexter/demo"
	"wexter/ingest"
	"wexter/standin"
	"wexter/store"
)

// wholeCar reads the file of a car in the bay.
func wholeCar(t *testing.T, name string) standin.CarFile {
	t.Helper()
	data, err := demo.WholeCar(name)
	if err != nil {
		t.Fatal(err)
	}
	f, err := standin.ReadCarFile(data)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// The vehicle ids of the demo's cars hold their own check digit (49 CFR 565.15, value
// from memory).
func TestVehicleIDs(t *testing.T) {
	files := map[string]bool{}
	for _, n := range demo.WholeCars() {
		files[wholeCar(t, n).VIN] = true
	}
	data, err := demo.Car("ibis")
	if err != nil {
		t.Fatal(err)
	}
	car, err := standin.ReadCar(data)
	if err != nil {
		t.Fatal(err)
	}
	files[car.VIN] = true
	if len(files) < 9 {
		t.Errorf("%d ids; each car has its own", len(files))
	}
	for vin := range files {
		t.Run(vin, func(t *testing.T) {
			if says := obd.CheckVIN(vin); says != "" {
				t.Error(says)
			}
		})
	}
}

// A car that comes into the bay with the key on and the engine off reads as one: open
// loop, throttle at rest, no air, no running time, the manifold at the barometer (ideal
// case, no source).
func TestKeyOnEngineOff(t *testing.T) {
	for _, n := range demo.WholeCars() {
		t.Run(n, func(t *testing.T) {
			f := wholeCar(t, n)
			f.Trips = min(f.Trips, 1) // one drive and one night: more only count its codes
			p, err := standin.NewPlant(f, ingest.Book(), 0)
			if err != nil {
				t.Fatal(err)
			}
			s, err := p.State()
			if err != nil {
				t.Fatal(err)
			}
			live := s.Live
			_, trims := live["06"]
			diesel := !trims // its flap stands open at rest
			if s.Running || live["03"] != 1 || live["11"] > 20 && !diesel || live["10"] != 0 || live["0C"] != 0 || live["1F"] != 0 {
				t.Errorf("running %v: %v", s.Running, live)
			}
			if mapKPa, ok := live["0B"]; ok && (mapKPa < live["33"]-0.6 || mapKPa > live["33"]+0.6) {
				t.Errorf("manifold at %.1f kPa, barometer %.1f", mapKPa, live["33"])
			}
			if gauge := s.Pressures["manifold"]; gauge < -600 || gauge > 600 {
				t.Errorf("manifold at %.0f Pa gauge", gauge)
			}
		})
	}
}

// Every car in the bay belongs to a case of the demo and is of its model year. It has stored
// a code that its customer told, unless it has only been driven once since (what was
// repaired, or comes and goes).
func TestCarsBelongToCases(t *testing.T) {
	ctx := context.Background()
	db, err := store.Open(filepath.Join(t.TempDir(), "demo.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	s := &casework.Shop{DB: db, Book: ingest.Book(), Now: time.Now}
	if err := demo.Fill(ctx, s); err != nil {
		t.Fatal(err)
	}
	for _, n := range demo.WholeCars() {
		t.Run(n, func(t *testing.T) {
			id, err := s.CaseID(ctx, n)
			if err != nil {
				t.Fatal(err)
			}
			f, err := s.Load(ctx, id)
			if err != nil {
				t.Fatal(err)
			}
			car := wholeCar(t, n)
			if years := obd.ModelYears(car.VIN, f.Vehicle.Year+1); !slices.Contains(years, f.Vehicle.Year) {
				t.Errorf("the vehicle id says %v, the case %d", years, f.Vehicle.Year)
			}
			if car.Trips < 2 {
				return
			}
			p, err := standin.NewPlant(car, s.Book, 0)
			if err != nil {
				t.Fatal(err)
			}
			now, err := p.State()
			if err != nil {
				t.Fatal(err)
			}
			if !slices.ContainsFunc(f.Codes, func(c record.Code) bool { return slices.Contains(now.Stored, c.Code) }) {
				t.Errorf("it has stored %v; its case says %v", now.Stored, f.Codes)
			}
		})
	}
}

// Whatever the day and the hour the demo begins at, one car will miss its inspection, and the
// others have time to spare.
func TestOneCarMissesItsInspection(t *testing.T) {
	for _, at := range []string{"2026-11-30 15:30", "2026-12-04 16:50", "2026-12-05 22:00", "2026-12-02 03:00"} {
		t.Run(at, func(t *testing.T) {
			t.Parallel()
			now, err := time.ParseInLocation("2006-01-02 15:04", at, time.Local)
			if err != nil {
				t.Fatal(err)
			}
			ctx := context.Background()
			db, err := store.Open(filepath.Join(t.TempDir(), "demo.db"))
			if err != nil {
				t.Fatal(err)
			}
			defer db.Close()
			s := &casework.Shop{DB: db, Book: ingest.Book(), Now: func() time.Time { return now }}
			if err := demo.Fill(ctx, s); err != nil {
				t.Fatal(err)
			}
			rows, err := s.Slate(ctx)
			if err != nil {
				t.Fatal(err)
			}
			var misses []string
			for _, r := range rows {
				t.Log(r.Case.Number, r.Due.Slack)
				if r.Due.Misses() {
					misses = append(misses, r.Case.Number)
				}
			}
			if !slices.Equal(misses, []string{"SQ-103"}) {
				t.Errorf("these will miss their inspection: %v", misses)
			}
		})
	}
}

// A shop without cars gets one demo car, however often it is asked for; a closed one is
// followed by another.
func TestOneDemoCar(t *testing.T) {
	ctx := context.Background()
	db, err := store.Open(filepath.Join(t.TempDir(), "shop.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	s := &casework.Shop{DB: db, Book: ingest.Book(), Now: time.Now}
	if _, _, err := demo.FindCar(ctx, s); !errors.Is(err, casework.ErrNotFound) {
		t.Fatalf("a demo car in an empty shop: %v", err)
	}
	first, number, err := demo.OpenCar(ctx, s, "k")
	if err != nil || number == "" {
		t.Fatalf("%q, %v", number, err)
	}
	if again, n, err := demo.OpenCar(ctx, s, "l"); err != nil || again != first || n != number {
		t.Errorf("a second time: %q %q, %v", again, n, err)
	}
	if err := s.Close(ctx, "", first, "tried out"); err != nil {
		t.Fatal(err)
	}
	if again, _, err := demo.OpenCar(ctx, s, "m"); err != nil || again == first {
		t.Errorf("after it was closed: %q, %v", again, err)
	}
}

// BenchmarkStock is what stands between the start of the demo and its first page.
func BenchmarkStock(b *testing.B) {
	book := ingest.Book()
	for b.Loop() {
		db, err := store.Open(filepath.Join(b.TempDir(), "demo.db"))
		if err != nil {
			b.Fatal(err)
		}
		if err := demo.Stock(context.Background(), &casework.Shop{DB: db, Book: book, Now: time.Now}); err != nil {
			b.Fatal(err)
		}
		db.Close()
	}
}
