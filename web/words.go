package web

// room is a place of the program: its name, and in one line what it is for. The line is
// the tooltip of its link, stands on the page until it has been read once, and is in the
// list behind the question mark.
type room struct {
	Key, Path, Name, Means string
	Shortcut               string // empty: no key leads there from everywhere
}

var rooms = []room{
	{"slate", "/", "Slate", "The open cases: what each waits for, and until when.", "s"},
	{"book", "/book", "Book", "Procedures, calculators, codes, faults and cautions to look up.", "k"},
	{"record", "/record", "Record", "The finished cases, and how their repairs turned out.", "r"},
	{"instruments", "/instruments", "Instruments", "The scan adapters, pressure modules and probes this shop has.", "i"},
	{"case", "", "Case", "One car's job, from the complaint to the proof.", ""},
	{"next", "", "Next", "The test to do now, how it may come out, and what else could be done.", ""},
	{"map", "", "Map", "The car's plumbing: tap a part to see what is known of it.", ""},
	{"strip", "", "Strip", "Everything measured and seen on this case, in order of time.", ""},
	{"bench", "", "Bench", "One test: set it up, take its readings, get the verdict.", ""},
	{"proof", "", "Proof", "The same test repeated, the complaint tried again, the monitors run.", ""},
}

// navRooms are those that the head of every page leads to.
func navRooms() (out []room) {
	for _, r := range rooms {
		if r.Path != "" {
			out = append(out, r)
		}
	}
	return out
}

// roomNamed is the room of a key.
func roomNamed(key string) room {
	for _, r := range rooms {
		if r.Key == key {
			return r
		}
	}
	return room{}
}

// shortcut is what a key does, for the list behind the question mark.
type shortcut struct {
	Keys []string
	Does string
}

var shortcuts = []shortcut{
	{[]string{"g"}, "the main action of the page"},
	{[]string{"n"}, "new case, on the Slate"},
	{[]string{"2", "3", "f"}, "on a case: look at another test; mark a part as found"},
	{[]string{"v", "m"}, "on a case: the car live; the Map large"},
	{[]string{"+", "−", "0"}, "on the Map: closer, wider, all of it; arrows move it"},
	{[]string{"l"}, "on a test: read it live"},
	{[]string{"space", "e", "m", "b", "v"}, "on a live bench: start, stop, or mark what is heard; end then; mark in words; bell; voice"},
	{[]string{"c"}, "on a live bench, after space: yes, charge or move it"},
	{[]string{"d"}, "day or night"},
	{[]string{"?"}, "this list"},
	{[]string{"Tab"}, "from field to field; every plot's handles are fields too"},
}
