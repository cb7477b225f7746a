package ingest

import (
	"strings"
	"testing"
	"unicode/utf8"

	"wexter/core/obd"
)

// Frames written by hand after ISO 15765-2, SAE J1850, ISO 9141-2 and ISO 14230 (from
// memory): the same car in every spelling.
func TestReadScanForms(t *testing.T) {
	for name, text := range map[string]string{
		"no headers, no spaces": "410C1AF8\n43013304560442",
		"no headers":            "> 01 0C\n41 0C 1A F8 \r\n\r\n03\n43 03 01 33 04 56 04 42",
		"lower case, comments":  "# idle\n41 0c 1a f8 # 1726 rpm\n43 03 01 33 04 56 04 42",
		"CAN 11 bit":            ">010C\n7E8 04 41 0C 1A F8 00 00 00\n7E8 10 08 43 03 01 33 04 56\n7E8 21 04 42 00 00 00 00 00",
		"CAN 11 bit, joined":    "7E804410C1AF8\n7E81008430301330456\n7E8210442AAAAAAAAAA",
		"CAN 29 bit":            "18 DA F1 10 04 41 0C 1A F8\n18DAF1101008430301330456\n18 DA F1 10 21 04 42 55 55 55 55 55",
		"CAN, numbered":         "41 0C 1A F8\n008\n0: 43 03 01 33 04 56\n1: 04 42 00 00 00 00 00",
		"CAN, no address":       "04 41 0C 1A F8\n10 08 43 03 01 33 04 56\n21 04 42 00 00 00 00 00",
		"ISO 9141":              "48 6B 10 41 0C 1A F8 22\n48 6B 10 43 01 33 04 56 04 42 DA",
		"ISO 14230":             "84 F1 10 41 0C 1A F8 E4\n87 F1 10 43 01 33 04 56 04 42 9F",
		"J1850":                 "48 6B 10 41 0C 1A F8 " + hexByte(obd.CRC([]byte{0x48, 0x6B, 0x10, 0x41, 0x0C, 0x1A, 0xF8})) + "\n48 6B 10 43 01 33 04 56 04 42 " + hexByte(obd.CRC([]byte{0x48, 0x6B, 0x10, 0x43, 1, 0x33, 4, 0x56, 4, 0x42})),
		"without check byte":    "48 6B 10 41 0C 1A F8\n48 6B 10 43 01 33 04 56 04 42",
		"behind a search":       "SEARCHING...41 0C 1A F8\nBUS INIT: ...OK\n43 03 01 33 04 56 04 42",
		"padded":                "41 0C 1A F8 AA AA AA\n43 03 01 33 04 56 04 42 55 55",
		"with requests":         "SEARCHING...\n7DF 02 01 0C 00 00 00 00 00\n68 6A F1 01 0C D0\n7E8 04 41 0C 1A F8\n18DB33F1020103\n7E8 10 08 43 03 01 33 04 56\n7E8 30 00 00\n7E8 21 04 42",
	} {
		t.Run(name, func(t *testing.T) {
			s, err := ReadScan([]byte(text))
			if err != nil {
				t.Errorf("%s: %v", name, err)
				return
			}
			var codes []string
			for _, c := range s.Codes {
				codes = append(codes, c.Code)
			}
			if s.Live["0C"].Value != 1726 || strings.Join(codes, " ") != "P0133 P0456 P0442" || len(s.Warnings) > 0 {
				t.Errorf("%s: %v %v %q", name, s.Live, codes, s.Warnings)
			}
		})
	}
}

func hexByte(b byte) string {
	return string([]byte{"0123456789ABCDEF"[b>>4], "0123456789ABCDEF"[b&15]})
}

func TestReadScanSeveralUnits(t *testing.T) {
	s, err := ReadScan([]byte("7E8 10 14 49 02 01 31 31 31\n7E9 10 14 49 02 01 31 31 31\n7E8 21 31 31 31 31 31 31 31\n7E9 21 31 31 31 31 31 31 31\n7E9 22 31 31 31 31 31 31 31\n7E8 22 31 31 31 31 31 31 31\n7EA 03 7F 09 11"))
	if err != nil || s.VIN != "11111111111111111" || len(s.Units) != 3 {
		t.Errorf("%v %q %v", err, s.VIN, s.Units)
	}
	if len(s.Warnings) != 1 || !strings.Contains(s.Warnings[0], "7EA does not have this service") {
		t.Errorf("%q", s.Warnings)
	}
}

// Every mistake gets a sentence with its line, and the good lines are still read.
func TestReadScanMistakes(t *testing.T) {
	for text, say := range map[string]string{
		"41 0C 1A F8\n7E8 10 14 49 02 01 31 31 31\n":       "line 2: a message of 20 bytes ends after 6",
		"41 0C 1A F8\nhello there":                         `line 2: "hello there" is neither hex`,
		"41 0C 1A F8\nNO DATA":                             "line 2: no unit answered",
		"41 0C 1A F8\nCAN ERROR":                           "line 2: the adapter could not",
		"41 0C 1A F8\n4 1 0 C 1":                           "line 2: \"4 1 0 C 1\" has an odd number",
		"41 0C 1A F8\n41 0C 1A":                            "line 2: PID 0C has 1 data bytes; 2 were expected",
		"41 0C 1A F8\n48 6B 10 41 0C 1A F8 23":             "line 2: the check byte is 23, by reckoning it would be 22",
		"41 0C 1A F8\n41 FE 00":                            "line 2: PID FE is not known",
		"41 0C 1A F8\n99 99 99 99 99 99 99 99 99":          "line 2: \"99 99 99 99 99 99 99 99 99\" does not begin",
		"41 0C 1A F8\n00A\n0: 49 02 01 31 31 31\n2: 31 31": "line 3: frame 1 was expected and 2 came",
		"41 0C 1A F8\n7E8 21 31 31":                        "line 2: a later frame",
		"41 0C 1A F8\n00A":                                 "line 2: a length of 10 bytes and nothing",
	} {
		t.Run(say, func(t *testing.T) {
			s, err := ReadScan([]byte(text))
			if err != nil || s.Live["0C"].Value != 1726 {
				t.Errorf("%q: %v, the good line is lost", text, err)
				return
			}
			if !strings.Contains(strings.Join(s.Warnings, "\n"), say) && !strings.Contains(strings.Join(s.Warnings, "\n"), strings.Replace(say, "line 3", "line 4", 1)) {
				t.Errorf("%q: %q does not say %q", text, s.Warnings, say)
			}
		})
	}
	for text, say := range map[string]string{"": "empty", "# only\n> 0100": "empty", "%PDF-1.4": "PDF", "\x00\x01": "not a text", "NO DATA": "no answer of a car", strings.Repeat("4", MaxHexBytes+1): "larger"} {
		t.Run(say, func(t *testing.T) {
			if _, err := ReadScan([]byte(text)); err == nil || !strings.Contains(err.Error(), say) {
				t.Errorf("%.20q: %v", text, err)
			}
		})
	}
}

func FuzzReadScan(f *testing.F) {
	for _, s := range []string{"41 0C 1A F8", "7E8 10 14 49 02 01 31 31 31\n7E8 21 31 31 31 31 31 31 31\n7E8 22 31 31 31 31 31 31 31", "48 6B 10 43 01 33 04 56 04 42 DA",
		"014\n0: 49 02 01 31 31 31\n1: 31", "46 3C 01 A9 00 A0 FF D8 00 78", "42 02 00 04 56", "7F 01 12", "NO DATA", "18DAF1100441FFFFFF"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		s, err := ReadScan(data)
		if err != nil {
			if err.Error() == "" {
				t.Error("an error without words")
			}
			return
		}
		for _, c := range s.Codes {
			if _, _, ok := obd.EncodeDTC(c.Code); !ok {
				t.Errorf("code %q", c.Code)
			}
		}
		for _, w := range s.Warnings {
			if !utf8.ValidString(w) {
				t.Errorf("warning %q", w)
			}
		}
	})
}
