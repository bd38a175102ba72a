package diagnose

import "strconv"

// Setting is what is known of a setting's value once all have one.
type Setting struct {
	Key     string
	Service string // that the value signs in at
	Later   string // a settings file that is read on top, and holds another value for the key
	Line    int    // of the key there
	// in words, the data that exists already and was made with the password of before
	Store   string
	Changed bool // the value is not what it was
}

// Settings are the rules for a setting.
var Settings = []Rule[Setting]{
	says("later-file-wins", func(s *Setting) bool { return s.Later != "" },
		"{later}:{line} wins over this one", "", ""),
	says("password-of-before", func(s *Setting) bool { return s.Store != "" && s.Changed },
		"{store} exists already and keeps the password that it was made with, so that {service} "+
			"will refuse this one: put the "+
			"earlier one back (--set {key}=…), or throw the data away (nharbor reset "+
			"--data)", "", ""),
}

// Explain tells what is wrong with the setting; the finding is empty if nothing is.
func (s *Setting) Explain() Finding {
	return first(Settings, s, map[string]string{"key": s.Key, "service": s.Service,
		"later": s.Later, "store": s.Store, "line": strconv.Itoa(s.Line)})
}
