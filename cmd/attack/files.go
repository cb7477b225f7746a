package main

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math/rand/v2"
	"net/url"
	"strings"
	"sync"

	"wexter/casework"
)

// hostile is a file that must be refused, and where it is sent.
type hostile struct {
	what, path string
	fields     map[string]string
	f          file
}

// files sends hostile files and looks at what they cost.
func files(ctx context.Context, w world) ([]figure, error) {
	id := ""
	p, _, err := w.open(ctx, func(s *casework.Shop) (err error) { id, err = s.OpenCase(ctx, "", newCase("FILE 1")); return err })
	if err != nil {
		return nil, err
	}
	defer p.kill()
	b := newBrowser(p.base)
	a, err := b.post(ctx, "/cases/"+id+"/tests", url.Values{})
	if err != nil || a.to == "" {
		return nil, fmt.Errorf("no test is begun: %d %w", a.code, err)
	}
	legs := a.to + "/legs"
	list := func(piece string) []byte { return []byte(strings.Repeat(piece+",", 60<<20/(len(piece)+1))) }
	join := func(parts ...[]byte) []byte { return bytes.Join(parts, nil) }
	fs, err := photos(ctx, p, id)
	if err != nil {
		return nil, err
	}
	for _, h := range []hostile{
		{"a bundle of 60 MB of {}", "/import", nil, file{"bundle", "c.json", join([]byte(`{"schema":"wexter-case/8","codes":[`), list("{}"), []byte(`{}]}`))}},
		{"a bundle of 60 MB of gaps", "/import", nil, file{"bundle", "c.json", join([]byte(`{"schema":"wexter-case/8","tests":[{"runs":[{"gaps":[`), list("{}"), []byte(`{}]}]}]}`))}},
		{"a bundle of 60 MB of readings", "/import", nil, file{"bundle", "c.json", join([]byte(`{"schema":"wexter-case/8","tests":[{"runs":[{"time_s":[`), list("0"), []byte(`0]}]}]}`))}},
		{"a log with a line of 60 MB", legs, map[string]string{"kind": "hold"}, file{"csv", "l.csv", join([]byte("time_s,pressure_Pa\n0,1\n1,"), bytes.Repeat([]byte("9"), 60<<20))}},
		{"a log of 60 MB of commas", legs, map[string]string{"kind": "hold"}, file{"csv", "l.csv", join([]byte("time_s,pressure_Pa\n0,1\n"), bytes.Repeat([]byte(","), 60<<20))}},
		{"a log that goes on for centuries", legs, map[string]string{"kind": "hold"}, file{"csv", "l.csv", []byte("time_s,pressure_Pa\n0,1\n1,2\n99999999999,3\n")}},
		{"a photo of 30 000 × 30 000", "/cases/" + id + "/notes", map[string]string{"kind": "note", "words": "x"}, file{"photo", "b.png", pngHeader(30000, 30000)}},
	} {
		f, err := refusal(ctx, p, b, h)
		if err != nil {
			return nil, err
		}
		fs = append(fs, f...)
	}
	return fs, p.stop()
}

// refusal sends a hostile file, which must be refused with a sentence.
func refusal(ctx context.Context, p *program, b *browser, h hostile) ([]figure, error) {
	if err := p.forget(); err != nil {
		return nil, err
	}
	before := p.megabytes("VmRSS")
	a, err := b.upload(ctx, h.path, h.fields, h.f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", h.what, err)
	}
	if a.code != 422 && a.code != 413 || a.says() == "" {
		return nil, fmt.Errorf("%s: %d %s", h.what, a.code, a.says())
	}
	fmt.Printf("    %s: %.100s\n", h.what, a.says())
	return []figure{{what: h.what + ": memory", got: p.megabytes("VmHWM") - before, most: 200, unit: "MB"},
		{what: h.what + ": refused within", got: float64(a.took) / 1e6, most: 1000, unit: "ms"}}, nil
}

// pngHeader is the beginning of a picture of any size, with nothing in it.
func pngHeader(width, height int) []byte {
	var b bytes.Buffer
	_ = png.Encode(&b, image.NewGray(image.Rect(0, 0, 1, 1))) // into memory
	data := b.Bytes()
	for i, x := range []int{width, height} {
		data[16+4*i], data[17+4*i], data[18+4*i], data[19+4*i] = byte(x>>24), byte(x>>16), byte(x>>8), byte(x)
	}
	return data
}

// photograph is a JPEG of 24 million pixels, as a camera takes it.
func photograph() []byte {
	rng := rand.New(rand.NewPCG(8, 8))
	img := image.NewRGBA(image.Rect(0, 0, 6000, 4000))
	for y := range 4000 {
		for x := range 6000 {
			v := uint8((x/23+y/17)%200 + rng.IntN(9))
			img.SetRGBA(x, y, color.RGBA{v, v / 2, 255 - v, 255})
		}
	}
	var b bytes.Buffer
	_ = jpeg.Encode(&b, img, &jpeg.Options{Quality: 80}) // into memory
	return b.Bytes()
}

// photos sends one large photo and then eight at once. They are the first things sent, so
// that no memory is there already.
func photos(ctx context.Context, p *program, id string) ([]figure, error) {
	data := photograph()
	send := func() (answer, error) {
		return newBrowser(p.base).upload(ctx, "/cases/"+id+"/notes", map[string]string{"kind": "note", "words": "photo"}, file{"photo", "a.jpg", data})
	}
	if err := p.forget(); err != nil {
		return nil, err
	}
	before := p.megabytes("VmRSS")
	one, err := send()
	if err != nil || one.code != 303 {
		return nil, fmt.Errorf("a photo of %d MB: %d %s %w", len(data)>>20, one.code, one.says(), err)
	}
	var all sync.WaitGroup
	var v visits
	for range 8 {
		all.Go(func() { a, err := send(); v.add("a photo", a, err) })
	}
	all.Wait()
	fs := []figure{{what: "a photo of 24 million pixels is taken within", got: float64(one.took) / 1e6, most: 2000, unit: "ms"},
		{what: "it, and eight of them at once: memory", got: p.megabytes("VmHWM") - before, most: 150, unit: "MB"}}
	return append(fs, figure{what: "eight of them at once: errors", got: float64(len(v.failed))}), nil
}
