// Package drawing lays a car's plumbing out on a sheet.
//
// Every part has a fixed station (front to rear of the car, left to right) and lane
// (air intake at the top, vents and exhaust at the bottom), so a part stands where it
// stood on the last car. Lines run in orthogonal channels: they are found one after
// another on a grid by the cheapest way (Dijkstra's method with an estimate: Hart,
// Nilsson and Raphael, "A Formal Basis for the Heuristic Determination of Minimum Cost
// Paths", IEEE Transactions, 1968; from memory), where bends, crossings and running
// close to something cost extra, and where boxes and the labels of parts are closed.
// Lines are named last, along their straight runs, where nothing else stands.
//
// The same parts always give the same sheet. What cannot be placed is reported and
// never drawn over something else.
package drawing
