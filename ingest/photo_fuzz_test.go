package ingest_test

import (
	"bytes"
	"image"
	"image/jpeg"
	"image/png"
	"testing"

	"wexter/ingest"
)

// A photo is read to a picture of the size that it says, without what it carries beside
// the picture, or refused; a small file never asks for much memory.
func FuzzReadPhoto(f *testing.F) {
	m := image.NewGray(image.Rect(0, 0, 9, 7))
	var p, j bytes.Buffer
	if err := png.Encode(&p, m); err != nil {
		f.Fatal(err)
	}
	if err := jpeg.Encode(&j, m, nil); err != nil {
		f.Fatal(err)
	}
	f.Add(p.Bytes())
	f.Add(j.Bytes())
	f.Add(p.Bytes()[:len(p.Bytes())/2])
	f.Add(append(append([]byte{}, j.Bytes()[:2]...), append([]byte("\xff\xe1\x00\x10Exif\x00\x00GPSGPS"), j.Bytes()[2:]...)...))
	f.Add([]byte("GIF89a"))
	f.Fuzz(func(t *testing.T, data []byte) {
		photo, err := ingest.ReadPhoto(data)
		if err != nil {
			return
		}
		c, _, err := image.DecodeConfig(bytes.NewReader(photo.Data))
		if err != nil || c.Width != photo.Width || c.Height != photo.Height {
			t.Fatalf("%d × %d is kept as %d × %d, %v", photo.Width, photo.Height, c.Width, c.Height, err)
		}
		if bytes.Contains(photo.Data, []byte("GPSGPS")) {
			t.Fatal("what stood beside the picture is still there")
		}
		if again, err := ingest.ReadPhoto(photo.Data); err != nil || again.Width != photo.Width {
			t.Fatalf("what is kept cannot be read again: %v", err)
		}
	})
}
