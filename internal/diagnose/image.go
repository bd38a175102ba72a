package diagnose

import "nimbleharbor/internal/expr"

// Image is what is known of an image that could not be fetched.
type Image struct {
	Ref      string
	Registry string // where it was asked for, as a person calls it
	Platform string // the one that was wanted; empty for the engine's own
	Why      string // what the engine said
}

// saidOf is a rule's condition on what the engine said.
func saidOf(pattern string) func(*Image) bool {
	re := expr.New("(?i)" + pattern)
	return func(i *Image) bool { return re.MatchString(i.Why) }
}

// Images are the rules for an image that could not be fetched. Registries that keep private images
// don't tell an image that isn't there from one that is not for everybody.
var Images = []Rule[Image]{
	says("image-disk-full", saidOf(`no space left on device`),
		"there is no room for it", "Make room: docker system df shows what the engine holds.", ""),
	says("image-platform", saidOf(`no matching manifest|does not match the specified platform|no match for platform`),
		"it is not made for this kind of machine ({platform})",
		"Choose another tag, or run it emulated: platform: linux/amd64 in the compose file.", ""),
	says("image-login", saidOf(`unauthorized|authentication required|no basic auth credentials|incorrect username`),
		"{registry} asks for a login", "Log in, then launch again: docker login {registry}", ""),
	says("image-denied", saidOf(`denied|may require 'docker login'|repository does not exist`),
		"{registry} has no such image, or none for you",
		"Check its name; if it is private, log in: docker login {registry}", ""),
	says("image-absent", saidOf(`manifest unknown|not found|name unknown|no such image`),
		"{registry} has no such image or tag", "Check the name and the tag of {ref}.", ""),
	says("image-many", saidOf(`toomanyrequests|rate limit`),
		"{registry} has had too many requests from here", "Wait, or log in: docker login "+
			"{registry}", ""),
	says("image-unreachable", saidOf(`dial tcp|no such host|i/o timeout|connection refused|network is unreachable|`+
		`deadline exceeded|handshake|certificate|server gave HTTP|Client\.Timeout|EOF`),
		"{registry} can't be reached from here",
		"Check this machine's network and its proxy; what an engine has once fetched it needs "+
			"not fetch again.", ""),
	says("image-unknown", func(*Image) bool { return true }, "the engine says: {why}",
		"Fetch it by hand to see more: docker pull {ref}", ""),
}

// Explain tells why the image could not be fetched, and what to do.
func (i *Image) Explain() Finding {
	platform := i.Platform
	if platform == "" {
		platform = "the engine's own"
	}
	return first(Images, i, map[string]string{"ref": i.Ref, "registry": i.Registry,
		"platform": platform, "why": i.Why})
}
