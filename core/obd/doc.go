// Package obd decodes what a car's control units answer to the diagnostic services
// of SAE J1979 / ISO 15031-5: trouble codes, readiness, live data, freeze frame,
// on-board test results and the vehicle identification number; and writes the same
// answers, for a simulated car.
//
// It works on messages: the bytes of one answer of one unit, with headers, length
// bytes and checksums already taken off. Frames are put together to messages by an
// Assembler, which knows the two forms of transport: the older buses, where each
// line is a message of at most seven bytes and a checksum, and CAN, where ISO
// 15765-2 splits long messages into frames.
//
// Numbering and scaling: SAE J1979 and ISO 15031-5 (values from memory).
package obd
