package protocol

import (
	"strings"
	"testing"
)

// TestRunsAs tells an image at its first start what it is to make.
func TestRunsAs(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ speaks, user, database, want string }{
		{"postgres", "clerk", "fares", "POSTGRES_DB=fares POSTGRES_USER=clerk POSTGRES_PASSWORD=…"},
		{"postgres", "postgres", "fares", "POSTGRES_DB=fares POSTGRES_PASSWORD=…"},
		{"postgres", "", "", "POSTGRES_PASSWORD=…"},
		{"mysql", "root", "fares", "MYSQL_DATABASE=fares MYSQL_ROOT_PASSWORD=…"},
		{"mysql", "", "", "MYSQL_ROOT_PASSWORD=…"},
		{"mongodb", "", "fares", "MONGO_INITDB_DATABASE=fares"},
		{"redis", "", "", ""},
		{"http", "a", "b", ""},
	} {
		if got := strings.Join(Named(c.speaks).RunsAs(c.user, c.database), " "); got != c.want {
			t.Errorf("%s for %s in %s: %s, want %s", c.speaks, c.user, c.database, got, c.want)
		}
	}
}
