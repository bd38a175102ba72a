// Package process tells of processes of this machine: their groups, whom they descend from, and the
// marks that those of a stack carry.
package process

import (
	"bytes"
	"fmt"
	"os"
)

// Marker is the variable by which every native process of a stack is known, whatever becomes of its
// parents.
const Marker = "NIMBLEHARBOR_STACK"

// ServiceMarker tells beside it which service, or step, has started a process.
const ServiceMarker = "NIMBLEHARBOR_SERVICE"

// MarksOf are the marks that a process carries: of which stack it is, and of which service or step.
// Both are empty for another's, and where they can't be seen.
func MarksOf(pid int) (stack, service string) {
	environ, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
	if err != nil {
		return "", ""
	}
	for kv := range bytes.SplitSeq(environ, []byte{0}) {
		if v, ok := bytes.CutPrefix(kv, []byte(Marker+"=")); ok {
			stack = string(v)
		} else if v, ok := bytes.CutPrefix(kv, []byte(ServiceMarker+"=")); ok {
			service = string(v)
		}
	}
	return stack, service
}

// MarkOf is the stack whose mark a process carries.
func MarkOf(pid int) string {
	stack, _ := MarksOf(pid)
	return stack
}
