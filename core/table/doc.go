// Package table reads tables that anyone's program has written: CSV (comma, semicolon or tab, with a head), JSON Lines
// (an object a line, nested ones flattened with dots) and Parquet. Every cell is a text; "" is absent. What a column
// means is for others to say.
//
// A wrong file is refused where it is wrong, by line and column, and in bounded memory: a row at a time.
package table
