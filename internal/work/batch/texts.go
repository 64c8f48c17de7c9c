package batch

import (
	"maps"
	"slices"

	"tivset/internal/answer"
	"tivset/internal/answer/table"
)

// Answers are those of a row of a table: given holds for all rows, in texts that may have places for
// columns; every other column is an answer, but for those that are used up: own are none, and used are
// what texts have places for.
func Answers(row table.Row, given answer.Given, used map[string]bool, own ...string) answer.Given {
	out := answer.Given{}
	for id, text := range given {
		out[id] = row.Fill(text)
	}
	for name, value := range row.Values {
		if value != "" && !used[name] && !slices.Contains(own, name) {
			out[name] = value
		}
	}
	return out
}

// Used are the columns that texts have places for, and those of answers.
func Used(row table.Row, given answer.Given, texts ...string) map[string]bool {
	used := map[string]bool{}
	for _, text := range append(slices.Collect(maps.Values(given)), texts...) {
		for _, name := range row.Used(text) {
			used[name] = true
		}
	}
	return used
}
