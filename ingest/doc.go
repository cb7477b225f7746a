// Package ingest reads what people hand in, pressure logs above all, and turns it
// into core types. Every refusal is one sentence that names the line and what was
// expected there.
//
// A log is CSV with a header line. Columns may stand in any order; commas,
// semicolons or tabs separate; numbers may use a decimal comma; the file may begin
// with a byte-order mark; units stand in the header ("pressure_inH2O",
// "temp (°C)") or are supplied; time is in seconds, minutes or ISO 8601.
//
// A scan is hexadecimal text, one answer a line: "41 0C 1A F8", with or without
// headers, of one or several control units.
package ingest
