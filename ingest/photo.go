package ingest

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"image/png"
	"math"
	"net/http"
	"runtime"
)

// Limits on a photo, looked at before it is decoded.
const (
	MaxPhotoBytes  = 12 << 20
	MaxPhotoPixels = 24_000_000
	maxPhotoMemory = 64 << 20 // bytes of one photo taken apart
)

// decoding is held by a photo that is taken apart: two at most, or a handful of large ones
// sent at once would take the memory of the whole computer.
var decoding = make(chan struct{}, 2)

// PhotoFile is a photo made new from its pixels: what else the file carried, the
// place where it was taken above all, is gone.
type PhotoFile struct {
	Mime          string
	Width, Height int
	Data          []byte
}

// ReadPhoto checks a PNG or JPEG for size before decoding it and encodes it again.
func ReadPhoto(data []byte) (PhotoFile, error) {
	if len(data) > MaxPhotoBytes {
		return PhotoFile{}, fmt.Errorf("the photo is larger than %d MB; take it at a smaller size", MaxPhotoBytes>>20)
	}
	mime := http.DetectContentType(data)
	if mime != "image/jpeg" && mime != "image/png" {
		return PhotoFile{}, errors.New("this is no photo; PNG and JPEG can be kept")
	}
	cfg, _, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return PhotoFile{}, errors.New("the photo is damaged and cannot be read")
	}
	if cfg.Width < 1 || cfg.Height < 1 || int64(cfg.Width)*int64(cfg.Height) > MaxPhotoPixels {
		return PhotoFile{}, fmt.Errorf("the photo is %d × %d pixels; at most %d million are kept", cfg.Width, cfg.Height, MaxPhotoPixels/1_000_000)
	}
	if need := photoMemory(data, mime, cfg); need > maxPhotoMemory {
		return PhotoFile{}, fmt.Errorf("the photo takes %d MB when it is opened; at most %d are given to one: save it smaller, or as a plain JPEG", need>>20, maxPhotoMemory>>20)
	}
	decoding <- struct{}{}
	// The pixels of a photo are the largest thing that the program ever holds: they are let
	// go before the next photo, not when the collector gets to it.
	defer func() { runtime.GC(); <-decoding }()
	img, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return PhotoFile{}, errors.New("the photo is damaged and cannot be read")
	}
	var out bytes.Buffer
	if mime == "image/png" {
		err = (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&out, img)
	} else {
		err = jpeg.Encode(&out, img, &jpeg.Options{Quality: 86})
	}
	if err != nil {
		return PhotoFile{}, err
	}
	return PhotoFile{Mime: mime, Width: cfg.Width, Height: cfg.Height, Data: out.Bytes()}, nil
}

// photoMemory is what decoding will take, from the header alone. A PNG may have sixteen
// bits a channel and be interlaced [Portable Network Graphics Specification, W3C, 2003,
// section 11.2.2; from memory]; a progressive JPEG keeps every coefficient until the last
// scan [ITU-T T.81, 1992, annex B; from memory].
func photoMemory(data []byte, mime string, cfg image.Config) int64 {
	pixels := int64(cfg.Width) * int64(cfg.Height)
	if mime == "image/png" {
		if len(data) < 29 {
			return math.MaxInt64
		}
		depth, colour, interlaced := data[24], data[25], data[28] != 0
		each := int64(4)
		if colour == 0 || colour == 3 { // grey, palette
			each = 1
		}
		if depth == 16 {
			each *= 2
		}
		if interlaced {
			return pixels * each * 2
		}
		return pixels * each
	}
	for at := 2; at+9 < len(data); {
		if data[at] != 0xff {
			at++
			continue
		}
		marker := data[at+1]
		if marker == 0xff || marker == 0 || marker == 1 || marker >= 0xd0 && marker <= 0xd8 {
			at++
			continue
		}
		if marker < 0xc0 || marker > 0xc2 {
			at += 2 + int(data[at+2])<<8 + int(data[at+3])
			continue
		}
		return jpegMemory(data[at+2:], marker == 0xc2, pixels)
	}
	return math.MaxInt64
}

// jpegMemory reads a frame header: how finely each component is sampled.
func jpegMemory(frame []byte, progressive bool, pixels int64) int64 {
	n := int(frame[7])
	if len(frame) < 8+3*n || n < 1 {
		return math.MaxInt64
	}
	sum, h, v := int64(0), int64(1), int64(1)
	for c := range n {
		x, y := int64(frame[9+3*c]>>4), int64(frame[9+3*c]&15)
		sum += x * y
		h, v = max(h, x), max(v, y)
	}
	samples := pixels * sum / (h * v)
	need := samples
	if progressive {
		need += 4 * samples
	}
	if n == 4 {
		need += 4 * pixels
	}
	return need
}
