package wizard

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What was read as line 3 is line 3 after a group has unfolded, been changed, and folded again.
func TestNumbersDoNotMove(t *testing.T) {
	var n numbers
	shown := func(lines ...Line) (out []string) {
		n.give(lines)
		for _, l := range lines {
			out = append(out, l.Number+" "+l.ID)
		}
		return out
	}
	at, data, name, title := Line{Group: "Where", ID: "at"}, Line{Group: DataLine, ID: DataLine},
		Line{Group: "Admin", ID: "admin.name"}, Line{Group: "Site", ID: "title"}
	from, server := Line{Group: DataLine, ID: "data.from"}, Line{Group: DataLine, ID: "data.server"}
	theme, board := Line{Group: "Site", ID: "theme"}, Line{Group: "Site", ID: "board"}
	folded := []string{"1 at", "2 Data", "3 admin.name", "4 title"}
	assert.Equal(t, folded, shown(at, data, name, title))
	assert.Equal(t, []string{"1 at", "2a data.from", "2b data.server", "3 admin.name", "3a theme", "4 title", "4a board"},
		shown(at, from, server, name, theme, title, board))
	assert.Equal(t, folded, shown(at, data, name, title))
	assert.Equal(t, []string{"1 at", "2b data.server", "3 admin.name", "4 title", "4a board"},
		shown(at, server, name, title, board), "a line that goes takes no number along")
}

func TestLettersOfManyLines(t *testing.T) {
	seen := map[string]bool{}
	for i := range 120 {
		assert.False(t, seen[letter(i)], fmt.Sprint(i, letter(i)))
		seen[letter(i)] = true
	}
	assert.True(t, isNumber("12") && isNumber("2a") && isNumber("2A") && !isNumber("a") && !isNumber("") && !isNumber("y"))
}
