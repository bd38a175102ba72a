package code

// What is asked of a program has rooms, each with the program's tokens.
type (
	// weighing tells whether code can do without a variable.
	weighing struct{ *program }
	// listing finds variables in lists that are checked at the start.
	listing struct{ *program }
)

func (p *program) weighing() weighing { return weighing{p} }
func (p *program) listing() listing   { return listing{p} }
