//go:build unix

package workspace

import "syscall"

const noFollow = syscall.O_NOFOLLOW | syscall.O_DIRECTORY
