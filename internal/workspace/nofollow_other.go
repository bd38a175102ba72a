//go:build !unix

package workspace

const noFollow = 0
