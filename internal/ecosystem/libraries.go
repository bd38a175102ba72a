package ecosystem

import (
	"slices"
	"strings"
)

// library begins the name of a library with what is needed to compile against it. What follows is
// its name in the files that pkg-config reads, one for each library, which come with its headers.
const library = "library "

// libraries are the packages that bring a library's headers, by the system's own way of installing.
var libraries = map[string]map[string]string{
	"cairo": {"apt": "libcairo2-dev", "dnf": "cairo-devel", "apk": "cairo-dev", "brew": "cairo",
		"pacman": "cairo"},
	"pango": {"apt": "libpango1.0-dev", "dnf": "pango-devel", "apk": "pango-dev", "brew": "pango",
		"pacman": "pango"},
	"libjpeg": {"apt": "libjpeg-dev", "dnf": "libjpeg-turbo-devel", "apk": "libjpeg-turbo-dev",
		"brew": "jpeg-turbo", "pacman": "libjpeg-turbo"},
	"xmlsec1": {"apt": "libxmlsec1-dev", "dnf": "xmlsec1-devel", "apk": "xmlsec-dev",
		"brew": "libxmlsec1", "pacman": "xmlsec"},
	"dbus-1": {"apt": "libdbus-1-dev", "dnf": "dbus-devel", "apk": "dbus-dev", "brew": "dbus",
		"pacman": "dbus"},
	"odbc": {"apt": "unixodbc-dev", "dnf": "unixODBC-devel", "apk": "unixodbc-dev",
		"brew": "unixodbc", "pacman": "unixodbc"},
	"libcgraph": {"apt": "libgraphviz-dev", "dnf": "graphviz-devel", "apk": "graphviz-dev",
		"brew": "graphviz", "pacman": "graphviz"},
	"gobject-introspection-1.0": {"apt": "libgirepository1.0-dev",
		"dnf": "gobject-introspection-devel",
		"apk": "gobject-introspection-dev", "brew": "gobject-introspection",
		"pacman": "gobject-introspection"},
	"icu-uc": {"apt": "libicu-dev", "dnf": "libicu-devel", "apk": "icu-dev", "brew": "icu4c",
		"pacman": "icu"},
	"MagickWand": {"apt": "libmagickwand-dev", "dnf": "ImageMagick-devel", "apk": "imagemagick-dev",
		"brew": "imagemagick", "pacman": "imagemagick"},
	"yaml-0.1": {"apt": "libyaml-dev", "dnf": "libyaml-devel", "apk": "yaml-dev", "brew": "libyaml",
		"pacman": "libyaml"},
}

// libraryFolders are where the files that pkg-config reads lie.
var libraryFolders = []string{"/usr/lib/*/pkgconfig", "/usr/lib/pkgconfig", "/usr/lib64/pkgconfig",
	"/usr/share/pkgconfig", "/usr/local/lib/pkgconfig", "/usr/local/share/pkgconfig",
	"/opt/homebrew/lib/pkgconfig", "/opt/homebrew/opt/*/lib/pkgconfig"}

// libraryFiles are patterns of the file of a library.
func libraryFiles(name string) (out []string) {
	for _, folder := range libraryFolders {
		out = append(out, folder+"/"+strings.TrimPrefix(name, library)+".pc")
	}
	return out
}

// libraryTool is the tool that stands for every library.
var libraryTool = Tool{Name: library, Family: true, HeadersOf: libraryFiles,
	Package: func(system, name string) string {
		return libraries[strings.TrimPrefix(name, library)][system]
	}}

// against are what it takes to compile against libraries.
func against(takes []string, names ...string) []string {
	for _, n := range names {
		takes = append(slices.Clip(takes), library+n)
	}
	return takes
}
