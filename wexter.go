// Package wexter is the root of the program; the command is in cmd/wexter, and
// docs/architecture.md says what each room does.
package wexter
