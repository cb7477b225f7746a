// Package standin holds simulated instruments, each served over TCP on loopback by
// a process of its own: the pressure and temperature module on a closed volume, and
// the scan adapter of a simulated car. They keep their own clocks, may run faster
// than real time, and can be given mishaps: unplugged, over-ranged, silent.
package standin
