package ingest

// Decimal is decimal, for its test.
var Decimal = decimal
