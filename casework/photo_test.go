package casework_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"image"
	"image/png"
	"strings"
	"testing"

	"wexter/casework"
	"wexter/core/record"
	"wexter/report"
)

// snap is a small photo.
func snap(t *testing.T, side int) *record.Photo {
	t.Helper()
	var b bytes.Buffer
	must(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, side, side))))
	sum := sha256.Sum256(b.Bytes())
	return &record.Photo{Hash: hex.EncodeToString(sum[:]), Mime: "image/png", Width: side, Height: side, Data: b.Bytes()}
}

// Photos of an exit and of a repair go with the bundle, and come back from it; a bundle that
// names one it does not hold is refused.
func TestPhotosOfExitsAndRepairs(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 1"))
	must(t, err)
	must(t, s.AddMark(ctx, "", id, casework.NewMark{Kind: record.MarkExit, Part: "vapour-line", Size: "stream", Photo: snap(t, 3)}))
	must(t, s.AddFinding(ctx, "", id, casework.NewFinding{Part: "vapour-line", By: record.ByWord, How: "smoke at the bend"}))
	must(t, s.AddRepair(ctx, "", id, casework.NewRepair{Action: "new line", Lasting: true, Photo: snap(t, 4)}))
	data, _, err := s.Export(ctx, id)
	must(t, err)
	other := shop(t)
	there, err := other.Import(ctx, data)
	must(t, err)
	f, err := other.Load(ctx, there)
	must(t, err)
	for _, hash := range []string{f.Marks[0].Photo, f.Repairs[0].Photo} {
		if p, err := other.Photo(ctx, hash); err != nil || len(p.Data) == 0 {
			t.Errorf("photo %q did not come along: %v", hash, err)
		}
	}
	if again, _, err := other.Export(ctx, there); err != nil || !bytes.Equal(again, data) {
		t.Errorf("exported again it differs, %v", err)
	}
	b, err := report.ReadBundle(data)
	must(t, err)
	b.Photos = b.Photos[:1]
	cut, err := report.WriteBundle(b)
	must(t, err)
	if _, err := shop(t).Import(ctx, cut); err == nil || !strings.Contains(err.Error(), "photo") {
		t.Errorf("a bundle without a photo that it names: %v", err)
	}
}
