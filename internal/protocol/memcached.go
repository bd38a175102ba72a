package protocol

import (
	"bytes"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// memcached is asked for its version (the text protocol).
var memcached = &Protocol{
	Name:     "memcached",
	Ports:    []int{11211},
	Programs: []string{"memcached"},
	Drivers: []string{"memcached", "memjs", "pymemcache", "pylibmc", "python-memcached", "dalli",
		"github.com/bradfitz/gomemcache", "memcache", "EnyimMemcachedCore"},
	Scheme:  "memcached",
	images:  expr.New(`memcached`),
	schemes: expr.New(`^memcached?$`),
	keys:    expr.New(`(?i)(^|[_.-])(memcached?|cache)`),
	hello:   "version\r\n",
	reply:   memcachedReply,
}

func memcachedReply(b []byte) (answer, bool) {
	return answer{verdict: stack.Answers, speaks: "memcached"}, bytes.HasPrefix(b,
		[]byte("VERSION "))
}
