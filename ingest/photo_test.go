package ingest_test

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/jpeg"
	"runtime"
	"strings"
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

// What a photo would take is seen in its header, before anything is taken apart.
func TestPhotosThatTakeTooMuchAreRefusedByTheirHeader(t *testing.T) {
	pngHead := func(w, h int, depth, colour, interlaced byte) []byte {
		b := []byte("\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR")
		b = binary.BigEndian.AppendUint32(b, uint32(w))
		b = binary.BigEndian.AppendUint32(b, uint32(h))
		b = append(b, depth, colour, 0, 0, interlaced)
		return binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(b[12:]))
	}
	jpegHead := func(marker byte, w, h int, sampling ...byte) []byte {
		b := []byte{0xff, 0xd8, 0xff, 0xe0, 0, 16, 'J', 'F', 'I', 'F', 0, 1, 1, 0, 0, 1, 0, 1, 0, 0, 0xff, marker, 0, byte(8 + 3*len(sampling)), 8,
			byte(h >> 8), byte(h), byte(w >> 8), byte(w), byte(len(sampling))}
		for i, s := range sampling {
			b = append(b, byte(i+1), s, 0)
		}
		return append(b, make([]byte, 16)...)
	}
	for _, c := range []struct {
		name string
		data []byte
		say  string
	}{
		{"sixteen bits and see-through", pngHead(5000, 4000, 16, 6, 0), "takes 152 MB"},
		{"interlaced", pngHead(4000, 4000, 8, 6, 1), "takes 122 MB"},
		{"progressive, every colour sampled", jpegHead(0xc2, 5000, 4000, 0x11, 0x11, 0x11), "takes 286 MB"},
		{"too many pixels", pngHead(60000, 60000, 8, 0, 0), "million are kept"},
		{"plain and large, but with no picture in it", jpegHead(0xc0, 5600, 4200, 0x22, 0x11, 0x11), "damaged"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			_, err := ingest.ReadPhoto(c.data)
			runtime.ReadMemStats(&after)
			if err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("%v; want a sentence with %q", err, c.say)
			}
			if took := after.TotalAlloc - before.TotalAlloc; took > 64<<20 {
				t.Errorf("refusing it took %d MB", took>>20)
			}
		})
	}
}
