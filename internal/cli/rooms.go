package cli

// Most commands have a room: what they alone do, with what all commands share.
type (
	boards     struct{ *app }
	catching   struct{ *app }
	checking   struct{ *app }
	cloning    struct{ *app }
	diagnosing struct{ *app }
	launching  struct{ *app }
	locking    struct{ *app }
	surveying  struct{ *app }
	tests      struct{ *app }
)

func (a *app) boards() boards         { return boards{a} }
func (a *app) catching() catching     { return catching{a} }
func (a *app) checking() checking     { return checking{a} }
func (a *app) cloning() cloning       { return cloning{a} }
func (a *app) diagnosing() diagnosing { return diagnosing{a} }
func (a *app) launching() launching   { return launching{a} }
func (a *app) locking() locking       { return locking{a} }
func (a *app) surveying() surveying   { return surveying{a} }
func (a *app) tests() tests           { return tests{a} }
