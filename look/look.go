// Package look tells what is in a stream from a sample of its events: a profile of each field, the
// fields, event time and margin that a document could declare ([Infer]), how late events come
// ([LatenessOf]), and a document to begin with ([Begin]). It reads nothing itself and guesses nothing
// silently: whatever is not certain is said as a doubt (docs/streams.md).
package look
