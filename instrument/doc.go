// Package instrument speaks to instruments: over the network to addresses that the shop
// has written down, and at serial devices that the system lists.
//
// There is a driver for each way of speaking, and all give an Instrument: a Module says
// itself what it is, in lines of JSON; Lines reads what prints a line of numbers; Modbus
// reads registers; a Poller reads live data of a car through a Scanner, which is an
// Adapter that says what it is or an AT one with set-up commands and a prompt. A Dialer
// chooses the driver of a device.
//
// What was sent and is no reading never becomes a number: it is a Reading with a Fault, in
// words that a technician can act on.
package instrument
