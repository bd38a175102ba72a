package cli

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nimbleharbor/internal/fill"
	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/locker"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
)

func lockerCommand(a *app) *cobra.Command {
	c := &cobra.Command{
		Use: "locker", Short: "Keeps issued secrets, encrypted, for every clone of a repository",
		Long: `Holds the secrets that only a third party can give, once for you on this machine,
encrypted to a key of yours. nharbor fill looks them up by repository and key, so
that a second clone or a reset asks for nothing.`,
	}
	var repository, recipient string
	here := func(cmd *cobra.Command) {
		cmd.Flags().StringVar(&repository, "repository", "",
			"the repository's address, instead of this workspace's")
	}
	put := &cobra.Command{Use: "put KEY",
		Short: "Keeps a secret; it is asked for, or read from the standard input",
		Args:  takes(1, 1), RunE: func(cmd *cobra.Command, args []string) error {
			if strings.Contains(args[0], "=") {
				return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeSecretInArguments,
					Text: "a secret does not belong into the command line, where others can " +
						"read it",
					Remedy: "Name the key alone; the secret is asked for, or read from the " +
						"standard input."}
			}
			repo, store, err := a.locking().lockerFor(cmd, repository, args[0])
			if err != nil {
				return err
			}
			value, err := a.locking().secret(args[0])
			if err != nil {
				return err
			}
			if err := store.Put(locker.Secret{Repository: repo, Key: args[0], Value: value,
				Since: time.Now().UTC().Truncate(time.Second)}); err != nil {
				return err
			}
			return a.locking().said("kept", repo, args[0],
				fmt.Sprintf("Kept %s for %s.", args[0], repo))
		}}
	list := &cobra.Command{Use: "list",
		Short: "Shows what is kept, without the secrets, and your public key", Args: takes(0, 0),
		RunE: func(*cobra.Command, []string) error {
			store, err := locker.Default()
			if err != nil {
				return err
			}
			all, err := store.List()
			if err != nil {
				return err
			}
			own, err := store.Recipient()
			if err != nil {
				return err
			}
			if a.json {
				return view.JSON(a.out, map[string]any{"schema": "nharbor.locker/1",
					"recipient": own, "secrets": append([]locker.Secret{}, all...)})
			}
			var rows [][3]string
			for _, s := range all {
				rows = append(rows, [3]string{s.Key, s.Repository, "since " +
					s.Since.Local().Format("2006-01-02")})
			}
			a.text().Kept(rows, own)
			return nil
		}}
	drop := &cobra.Command{Use: "drop KEY", Short: "Forgets a secret", Args: takes(1, 1),
		RunE: func(cmd *cobra.Command, args []string) error {
			repo, store, err := a.locking().lockerFor(cmd, repository, args[0])
			if err != nil {
				return err
			}
			found, err := store.Drop(repo, args[0])
			if err != nil {
				return err
			}
			if !found {
				return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotKept,
					Text:   fmt.Sprintf("the locker holds no %s for %s", args[0], repo),
					Remedy: "See what it holds: nharbor locker list"}
			}
			return a.locking().said("dropped", repo, args[0],
				fmt.Sprintf("Forgot %s for %s. Settings files that hold it are unchanged.",
					args[0], repo))
		}}
	pack := &cobra.Command{Use: "pack --for RECIPIENT",
		Short: "Writes this workspace's issued secrets for a colleague's public " +
			"key", Args: takes(0, 0),
		Long: `Writes the issued secrets of this workspace's repositories to the standard output,
encrypted so that only the recipient can read them: the public key that nharbor
locker list shows them, their public key of SSH, or a file that holds either.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.locking().pack(cmd, repository, recipient)
		}}
	pack.Flags().StringVar(&recipient, "for", "",
		"the colleague's public key, or a file that holds it")
	replace := false
	unpack := &cobra.Command{Use: "unpack [FILE]",
		Short: "Keeps the secrets that a colleague has packed for you", Args: takes(0, 1),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.locking().unpack(args, replace)
		}}
	unpack.Flags().BoolVar(&replace, "replace", false,
		"let the pack replace other values that are kept")
	for _, sub := range []*cobra.Command{put, drop, pack} {
		here(sub)
	}
	c.AddCommand(put, list, drop, pack, unpack)
	return c
}

func (a locking) said(did, repository, key, text string) error {
	if a.json {
		return view.JSON(a.out, map[string]string{"schema": "nharbor.locker/1", "did": did,
			"repository": repository, "key": key})
	}
	a.text().Line("%s", text)
	return nil
}

// lockerFor opens the locker, and tells the repository that a key is kept for.
func (a locking) lockerFor(cmd *cobra.Command, named,
	key string) (repo string, store *locker.Store, err error) {
	if repo, err = a.repositoryFor(cmd, named, key); err == nil {
		store, err = locker.Default()
	}
	return repo, store, err
}

// repositoryFor is the repository that a key is kept for: the one named, or this workspace's. In a
// workspace of several it is the one with a settings file that has the key.
func (a locking) repositoryFor(cmd *cobra.Command, named, key string) (string, error) {
	if named != "" {
		return gitrepo.NormalAddress(named), nil
	}
	repos, err := a.repositories(cmd)
	if err != nil || len(repos) == 1 {
		return strings.Join(repos, ""), err
	}
	w, err := a.surveyed(cmd.Context(), session.WithoutCode)
	if w == nil {
		return "", err
	}
	if f, err := w.Fill(cmd.Context(), session.Filling{Complain: a.complain}); err == nil {
		for _, file := range f.Plan.Files {
			if slices.ContainsFunc(file.Settings,
				func(s fill.Setting) bool { return s.Key == key }) {
				return w.Repository(cmd.Context(), file.Path, map[string]string{}), nil
			}
		}
	}
	return "", &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeRepositoryUnclear,
		Text: fmt.Sprintf("this workspace has several repositories, and no settings file of "+
			"theirs has a key %s", key),
		Remedy: "Say which one with --repository: " + strings.Join(repos, ", ")}
}

// repositories names those of this workspace.
func (a locking) repositories(cmd *cobra.Command) ([]string, error) {
	w, err := a.opened(cmd.Context())
	if err != nil {
		return nil, err
	}
	var out []string
	names := map[string]string{}
	for _, c := range w.Checkouts {
		file := filepath.ToSlash(filepath.Join(c.Path, ".env"))
		if name := w.Repository(cmd.Context(), file, names); !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	if len(out) == 0 {
		out = append(out, w.Repository(cmd.Context(), ".env", names))
	}
	return out, nil
}

// secret asks for a secret without showing it, or reads it from the standard input.
func (a locking) secret(key string) (string, error) {
	var value string
	if a.asks() {
		fmt.Fprintf(a.err, "%s (not shown while you type): ", key)
		b, err := term.ReadPassword(int(a.in.(*os.File).Fd()))
		fmt.Fprintln(a.err)
		if err != nil {
			return "", err
		}
		value = string(b)
	} else {
		data, err := io.ReadAll(io.LimitReader(bufio.NewReader(a.in), 1<<20))
		if err != nil {
			return "", err
		}
		value = string(data)
	}
	if value = strings.TrimSpace(value); value == "" {
		return "", &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeSecretEmpty,
			Text: "no secret was given", Remedy: "Type it, or write it to the standard input."}
	}
	return value, nil
}

func (a locking) pack(cmd *cobra.Command, repository, recipient string) error {
	if recipient == "" {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeRecipientMissing,
			Text: "say for whom the secrets are packed",
			Remedy: "Ask your colleague for the public key that nharbor locker list shows them: " +
				"nharbor locker pack --for KEY"}
	}
	if data, err := os.ReadFile(recipient); err == nil {
		recipient, _, _ = strings.Cut(strings.TrimSpace(string(data)), "\n")
	}
	repos := []string{gitrepo.NormalAddress(repository)}
	if repository == "" {
		var err error
		if repos, err = a.repositories(cmd); err != nil {
			return err
		}
	}
	store, err := locker.Default()
	if err != nil {
		return err
	}
	secrets, err := store.Of(repos...)
	if err != nil {
		return err
	}
	if len(secrets) == 0 {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNothingToPack,
			Text: "the locker holds nothing for " + strings.Join(repos, ", "),
			Remedy: "See what it holds: nharbor locker list. To put something in: nharbor " +
				"locker put KEY"}
	}
	if err := locker.Pack(a.out, recipient, secrets); err != nil {
		return err
	}
	if !a.json {
		var keys []string
		for _, s := range secrets {
			keys = append(keys, s.Key)
		}
		view.For(a.err).Line("Packed %s. Your colleague runs: nharbor locker unpack FILE",
			strings.Join(keys, ", "))
	}
	return nil
}

func (a locking) unpack(args []string, replace bool) error {
	from := a.in
	if len(args) > 0 && args[0] != "-" {
		f, err := os.Open(args[0])
		if err != nil {
			return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodePackUnreadable,
				At: stack.Place{File: args[0]}, Text: "the pack can't be read: " +
					stack.Reason(err), Remedy: "Name the file that your colleague sent.",
				Cause: err}
		}
		defer f.Close()
		from = f
	}
	store, err := locker.Default()
	if err != nil {
		return err
	}
	secrets, err := store.Unpack(from, func(differ []locker.Secret) bool {
		if replace || !a.asks() {
			return replace
		}
		for _, s := range differ {
			a.text().Line("Another value of %s is kept for %s.", s.Key, s.Repository)
		}
		return a.yes("Replace what is kept with what is in the pack?")
	})
	if err != nil {
		return err
	}
	for i := range secrets {
		secrets[i].Value = ""
	}
	if a.json {
		return view.JSON(a.out, map[string]any{"schema": "nharbor.locker/1", "did": "unpacked",
			"secrets": secrets})
	}
	for _, s := range secrets {
		a.text().Line("Kept %s for %s.", s.Key, s.Repository)
	}
	return nil
}
