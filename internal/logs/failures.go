package logs

import (
	"errors"
	"io"
	"io/fs"
	"slices"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/stack"
)

// Understood is a log that was read for what it says, with how what wrote it has ended, where that is
// known.
type Understood struct {
	Source string `json:"source"`
	Failed bool   `json:"failed"`
	How    string `json:"how,omitempty"`
	*diagnose.Reading
}

// OfFailures reads the logs of the sources named; without names those of all that failed. Of what
// has no log, such as an image that could not be had, what is known of the failure is the cause.
func OfFailures(root string, names []string, failures []stack.Failure,
	read func(source string, in io.Reader) (Understood, error)) ([]Understood, error) {
	failed := map[string]stack.Failure{}
	sources := slices.Clone(names)
	for _, f := range failures {
		if source := Source(f.ID); f.State != stack.Skipped && f.ID != "" {
			failed[source] = f
			if names == nil {
				sources = append(sources, source)
			}
		}
	}
	out := []Understood{}
	for _, source := range sources {
		in, err := All(root, source)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		one := Understood{Source: source, Reading: &diagnose.Reading{}}
		if in != nil {
			one, err = read(source, in)
			in.Close()
			if err != nil {
				return nil, err
			}
		}
		if f, ok := failed[source]; ok {
			one.Failed, one.How = true, f.Text
			if len(one.Causes) == 0 && f.Cause != "" {
				one.Causes = []diagnose.Cause{{Code: f.Code, Cause: f.Cause, Remedy: f.Remedy}}
			}
		}
		out = append(out, one)
	}
	return out, nil
}
