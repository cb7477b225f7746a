// Package store keeps a shop in one SQLite file. It is the one room that knows SQL:
// the case work says what belongs together in one transaction, and this package says
// how it is written and found.
//
// A shop has a write pool of one connection that begins its transactions immediately,
// a read pool beside it, write-ahead logging with full synchronisation, and numbered
// forward-only migrations. Readings are kept in blocks that never change.
//
// [DB.Read] and [DB.Write] hand out a [Tx]. Rows of any record are read by [Get],
// [OfCase], [OfTest] and [OfVehicle] and written by [Tx.Add] and [Tx.Put]; questions
// that need more than that are methods of Tx, one for each question.
package store
