package web

import (
	"context"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wexter/casework"
	"wexter/core/diagnose"
	"wexter/ingest"
	"wexter/store"
)

// Where replacing a part comes before any test, the button leads to a look at that part; a
// test that somebody tapped keeps the button.
func TestTheButtonGoesWhereTheWordsPoint(t *testing.T) {
	ctx := context.Background()
	db, err := store.Open(filepath.Join(t.TempDir(), "shop.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	shop := &casework.Shop{DB: db, Book: ingest.Book(), Now: time.Now}
	id, err := shop.OpenCase(ctx, "", casework.NewCase{Plate: "A 1", Make: "Ostrel", Model: "Knot", Year: 2019, TankL: 50, Metering: "maf", Archetype: "engine-vacuum", Complaint: "Lamp on.", Codes: "P0446"})
	if err != nil {
		t.Fatal(err)
	}
	f, err := shop.Load(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	car, err := shop.Car(f.Vehicle, f.Corrections)
	if err != nil {
		t.Fatal(err)
	}
	th, err := shop.Think(ctx, f)
	if err != nil {
		t.Fatal(err)
	}
	tapped := ""
	v := reader{f: f, car: car, t: th, base: "/cases/x", ask: func(string) string { return tapped }}
	move := diagnose.Move{Kind: diagnose.ToReplace, Fault: "vent-filter"}
	l := v.look(move)
	if l == nil || !strings.HasPrefix(l.Link, "/cases/x/do/look?on=vent") || l.Percent == "< 1" {
		t.Errorf("%+v", l)
	}
	if v.look(diagnose.Move{Kind: diagnose.ToTest}) != nil {
		t.Error("a test leads to a look")
	}
	if tapped = "smoke"; v.look(move) != nil {
		t.Error("a tapped test lost its button")
	}
}
