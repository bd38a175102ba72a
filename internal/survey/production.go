package survey

import (
	"fmt"
	"path"

	"nimbleharbor/internal/stack"
)

// writtenAddresses remarks on addresses elsewhere that code holds and whose path a service here
// offers: what runs here would speak to a server that is somebody's in earnest.
func (s *settingsFiles) writtenAddresses() {
	if s.reader == nil {
		return
	}
	for _, w := range s.Code.Written {
		own := s.projectOf(path.Dir(w.At.File))
		for i := range s.Stack.Services {
			v := &s.Stack.Services[i]
			dir := v.Home
			if v.Runs == stack.Native {
				dir = v.Dir()
			}
			if dir == "" || dir == own || len(v.Ports) == 0 || v.Ports[0].Host == 0 ||
				!s.Mentions.In([]string{dir}, "",
					[]string{`"` + w.Path, `'` + w.Path, "`" + w.Path}) {
				continue
			}
			s.RemarkOn(stack.AboutService(v.Name), stack.Warning, stack.CodeAddressElsewhere, w.At,
				fmt.Sprintf(
					"this speaks to %s, while %s of this stack offers %s at http://localhost:%d",
					w.Address, v.Name, w.Path, v.Ports[0].Host),
				fmt.Sprintf("For work on this machine write http://localhost:%d there, or take it from a setting.",
					v.Ports[0].Host))
			break
		}
	}
}
