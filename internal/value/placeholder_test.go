package value

import "testing"

func TestPlaceholder(t *testing.T) {
	t.Parallel()
	for value, want := range map[string]bool{
		"change-me": true, "changeme": true, "CHANGE_ME_PLEASE": true, "<your " +
			"token>": true, "your-api-key": true,
		"xxx": true, "TO" + "DO": true,
		"toBeModified1,toBeModified2": true, "to-be-changed": true, "a,changeme": false,
		"secret": true, "{{ key }}": true,
		"": false, "true": false, "8080": false, "localhost": false, "info": false,
		"yourself":  false,
		"todo-list": false, "unchanged": false,
	} {
		if got := Placeholder(value); got != want {
			t.Errorf("Placeholder(%q) = %v", value, got)
		}
	}
}
