package ingest

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"image/png"
	"net/http"
)

// Limits on a photo, looked at before it is decoded.
const (
	MaxPhotoBytes  = 12 << 20
	MaxPhotoPixels = 24_000_000
)

// PhotoFile is a photo made new from its pixels: what else the file carried, the
// place where it was taken above all, is gone.
type PhotoFile struct {
	Mime          string
	Width, Height int
	Data          []byte
}

// ReadPhoto checks a PNG or JPEG for size before decoding it and encodes it anew.
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
	img, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return PhotoFile{}, errors.New("the photo is damaged and cannot be read")
	}
	var out bytes.Buffer
	if mime == "image/png" {
		err = png.Encode(&out, img)
	} else {
		err = jpeg.Encode(&out, img, &jpeg.Options{Quality: 86})
	}
	if err != nil {
		return PhotoFile{}, err
	}
	return PhotoFile{Mime: mime, Width: cfg.Width, Height: cfg.Height, Data: out.Bytes()}, nil
}
