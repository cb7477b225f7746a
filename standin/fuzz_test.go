package standin_test

import (
	"testing"

	"wexter/demo"
	"wexter/standin"
)

// A car's file is read to a car that can be built or is refused, and never breaks the
// program.
func FuzzReadCars(f *testing.F) {
	for _, n := range demo.WholeCars() {
		data, err := demo.WholeCar(n)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	if data, err := demo.Car("ibis"); err == nil {
		f.Add(data)
	}
	f.Add([]byte("name: x\nlevel: .nan\ntrips: 3"))
	f.Add([]byte("name: &a [*a]"))
	f.Add([]byte("name: x\nfaults: {cap: .inf}"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if c, err := standin.ReadCarFile(data); err == nil && (c.Name == "" || c.Trips < 0 || c.Trips > 5) {
			t.Fatalf("taken for a car: %+v", c)
		}
		c, err := standin.ReadCar(data)
		if err != nil {
			return
		}
		a := standin.NewAdapter(c, 1)
		for _, ask := range []string{"0100", "03", "0902", "0142", "FF", ""} {
			_ = a.Answer(ask)
		}
	})
}
