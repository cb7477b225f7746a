package ingest_test

import (
	"bytes"
	"image"
	"image/jpeg"
	"testing"

	"wexter/ingest"
)

// A photo keeps its pixels and loses where it was taken.
func TestPhotosLoseTheirLocation(t *testing.T) {
	var b bytes.Buffer
	if err := jpeg.Encode(&b, image.NewGray(image.Rect(0, 0, 40, 30)), nil); err != nil {
		t.Fatal(err)
	}
	exif := append([]byte{0xff, 0xe1, 0, 30}, []byte("Exif\x00\x00GPS 51.0N 1.0E quay 7  ")...)
	data := append(append(append([]byte(nil), b.Bytes()[:2]...), exif...), b.Bytes()[2:]...)
	p, err := ingest.ReadPhoto(data)
	if err != nil {
		t.Fatal(err)
	}
	if p.Width != 40 || p.Height != 30 || p.Mime != "image/jpeg" || bytes.Contains(p.Data, []byte("GPS")) || !bytes.Contains(data, []byte("GPS")) {
		t.Errorf("%d × %d %s, location kept: %v", p.Width, p.Height, p.Mime, bytes.Contains(p.Data, []byte("GPS")))
	}
	if _, err := ingest.ReadPhoto(make([]byte, ingest.MaxPhotoBytes+1)); err == nil {
		t.Error("a photo over the limit was read")
	}
}
