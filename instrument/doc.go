// Package instrument speaks to instruments on this computer's own network: the
// pressure and temperature module and the scan adapter, each by its address, and
// the replay of a log as if it came from a module.
//
// A module sends one JSON object a line over TCP. The first says what it is (About),
// every further one is a Reading, ten times a second by the module's own clock. A
// client may send Commands when the module lists them; the answer is the next line
// with "done". Simulated and real modules speak the same lines.
package instrument
