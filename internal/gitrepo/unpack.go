package gitrepo

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"syscall"

	"nimbleharbor/internal/archive"
	"nimbleharbor/internal/stack"
)

// unpack makes a workspace's folder of an archive, which has no history. As with a clone the folder
// appears when it is complete, or not at all. The one folder that archives of a repository have at
// their top is left out.
func unpack(ctx context.Context, name, dir string, opt Options) (stack.Checkout, error) {
	var none stack.Checkout
	if opt.Ref != "" || opt.Upstream != "" || opt.Choose != nil || opt.Slim {
		return none, &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeWrongCall,
			At: stack.Place{File: name},
			Text: "an archive has neither tags nor branches, no remote, and nothing that " +
				"could stay there",
			Remedy: "Leave out --at, --upstream and --slim, or clone the repository itself."}
	}
	temp, err := beside(dir)
	if err != nil {
		return none, err
	}
	defer os.RemoveAll(temp)
	work := filepath.Join(temp, "unpacked")
	if err := os.Mkdir(work, 0o777); err != nil {
		return none, err
	}
	last := int64(-1)
	err = archive.Unpack(ctx, name, work, func(read, of int64) {
		if percent := read * 100 / max(of, 1); opt.Progress != nil && percent != last {
			last = percent
			opt.Progress(Progress{Phase: "unpacked", Percent: int(percent), Bytes: read})
		}
	})
	if err != nil {
		return none, unpackFault(name, err)
	}
	top, err := archive.Top(work)
	if err != nil {
		return none, err
	}
	if opt.NewHistory {
		g := git{ctx: ctx, protocols: "none", ours: true}
		if err := g.newHistory(top); err != nil {
			return none, err
		}
	}
	if err := appear(top, dir); err != nil {
		return none, err
	}
	if _, err := os.Stat(filepath.Join(dir, ".git")); err != nil {
		return stack.Checkout{Path: "."}, nil
	}
	return Describe(ctx, dir)
}

func unpackFault(name string, err error) error {
	f := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeArchiveRefused,
		At:   stack.Place{File: name},
		Text: "the archive is not unpacked: " + err.Error(), Cause: err,
		Remedy: "Nothing of it was kept. Get it again, or ask whoever made it."}
	var refused *archive.Refused
	switch {
	case errors.Is(err, context.Canceled):
		f.Kind, f.Code, f.Text, f.Remedy = stack.Interrupted, stack.CodeInterrupted,
			"the unpacking was interrupted; nothing was left behind", "Run it again when you like."
	case errors.Is(err, syscall.ENOSPC):
		f.Code, f.Text = stack.CodeDiskFull, "the archive does not fit: the disk is full"
		f.Remedy = "Free some space, or choose another place with --into; nothing of it was " +
			"left behind."
	case !errors.As(err, &refused):
		f.Text = "the archive can't be unpacked: " + stack.Reason(err)
	}
	return f
}
