// Package locker keeps issued secrets once per person, encrypted, by the repository and the key
// that they are for, and hands them to others encrypted to their public key.
package locker

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"filippo.io/age/armor"
	"github.com/gofrs/flock"

	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Secret is one issued secret. Repository tells what it is for.
type Secret struct {
	Repository string    `json:"repository"`
	Key        string    `json:"key"`
	Value      string    `json:"value,omitempty"`
	Since      time.Time `json:"since"`
}

// Store is a locker on this machine. Its file is encrypted (age, version 1) to the identity, which
// is made when it is first needed and must be readable by its owner alone. It may be used by
// several processes at once.
type Store struct {
	File     string // the encrypted secrets
	Identity string // the file of the private key
}

// Default is the locker of this person: in the folders that the XDG Base Directory Specification
// names for data and for configuration, or their usual places. Its error tells that there is no
// home folder.
func Default() (*Store, error) {
	home, err := os.UserHomeDir()
	folder := func(variable, usual string) string {
		if dir := os.Getenv(variable); filepath.IsAbs(dir) {
			return filepath.Join(dir, "nharbor")
		}
		return filepath.Join(home, usual, "nharbor")
	}
	data, config := folder("XDG_DATA_HOME", ".local/share"), folder("XDG_CONFIG_HOME", ".config")
	if err != nil && (!filepath.IsAbs(data) || !filepath.IsAbs(config)) {
		return nil, fmt.Errorf("there is no home folder for the locker: %w", err)
	}
	return &Store{File: filepath.Join(data, "locker.age"),
		Identity: filepath.Join(config, "identity")}, nil
}

type content struct {
	Schema  string   `json:"schema"`
	Secrets []Secret `json:"secrets"`
}

const schema = "nharbor.locker/1"

// Get gives the secret of a repository and a key. A locker that was never used has none.
func (s *Store) Get(repository, key string) (string, bool, error) {
	all, err := s.read()
	if err != nil {
		return "", false, err
	}
	for _, one := range all {
		if one.Repository == repository && one.Key == key {
			return one.Value, true, nil
		}
	}
	return "", false, nil
}

// List gives all secrets without their values, by repository and key.
func (s *Store) List() ([]Secret, error) {
	all, err := s.read()
	for i := range all {
		all[i].Value = ""
	}
	return all, err
}

// Of gives the secrets of the repositories, with their values.
func (s *Store) Of(repositories ...string) ([]Secret, error) {
	all, err := s.read()
	return slices.DeleteFunc(all,
		func(one Secret) bool { return !slices.Contains(repositories, one.Repository) }), err
}

// Put keeps secrets; one of the same repository and key is replaced.
func (s *Store) Put(secrets ...Secret) error {
	return s.change(func(all []Secret) []Secret {
		for _, n := range secrets {
			all = slices.DeleteFunc(all,
				func(o Secret) bool { return o.Repository == n.Repository && o.Key == n.Key })
			all = append(all, n)
		}
		return all
	})
}

// Drop forgets a secret and reports whether there was one.
func (s *Store) Drop(repository, key string) (found bool, err error) {
	err = s.change(func(all []Secret) []Secret {
		n := len(all)
		all = slices.DeleteFunc(all,
			func(o Secret) bool { return o.Repository == repository && o.Key == key })
		found = len(all) < n
		return all
	})
	return found, err
}

// Recipient is the public key that others pack secrets for. It makes the identity if there is none.
func (s *Store) Recipient() (string, error) {
	id, err := s.own()
	if err != nil {
		return "", err
	}
	return id.Recipient().String(), nil
}

// Pack writes the secrets, encrypted to the recipient alone, as text. The recipient is a public key
// of age or of SSH.
func Pack(w io.Writer, recipient string, secrets []Secret) error {
	to, err := parseRecipient(recipient)
	if err != nil {
		return err
	}
	text := armor.NewWriter(w)
	if err := encrypt(text, to, secrets); err != nil {
		return err
	}
	return text.Close()
}

func parseRecipient(text string) (age.Recipient, error) {
	text = strings.TrimSpace(text)
	var to age.Recipient
	var err error
	if strings.HasPrefix(text, "ssh-") {
		to, err = agessh.ParseRecipient(text)
	} else {
		to, err = age.ParseX25519Recipient(text)
	}
	if err != nil {
		return nil, &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeRecipientInvalid,
			Text: "this is not a public key to pack for",
			Remedy: "Ask your colleague for the line that nharbor locker list shows as theirs; " +
				"a public key of SSH (ssh-ed25519 or ssh-rsa) serves too."}
	}
	return to, nil
}

func encrypt(w io.Writer, to age.Recipient, secrets []Secret) error {
	data, err := json.Marshal(content{schema, secrets})
	if err != nil {
		return err
	}
	enc, err := age.Encrypt(w, to)
	if err != nil {
		return err
	}
	if _, err := enc.Write(data); err != nil {
		return err
	}
	return enc.Close()
}

// Unpack reads secrets that were packed for this person, and keeps them. Where some would replace
// others that are kept, replace is asked with those; if it says no, nothing is kept, and the
// error's code is secrets-differ.
func (s *Store) Unpack(r io.Reader, replace func([]Secret) bool) ([]Secret, error) {
	id, err := s.own()
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(r, 8<<20))
	if err != nil {
		return nil, err
	}
	wrong := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodePackUnreadable,
		Text: "this is not a pack of secrets, or it is damaged",
		Remedy: "Ask for it again: your colleague makes it with nharbor locker pack --for " +
			id.Recipient().String()}
	// Words of a letter may stand around it.
	begin, end := bytes.Index(data, []byte(armor.Header)), bytes.LastIndex(data,
		[]byte(armor.Footer))
	if begin < 0 || end < begin {
		return nil, wrong
	}
	from := armor.NewReader(bytes.NewReader(data[begin : end+len(armor.Footer)]))
	plain, err := age.Decrypt(from, append([]age.Identity{id}, ofSSH()...)...)
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodePackForAnother,
			Text: "these secrets were packed for somebody else",
			Remedy: "Ask for them again, packed for you: nharbor locker pack --for " +
				id.Recipient().String()}
	}
	if err != nil {
		return nil, wrong
	}
	secrets, err := decode(plain)
	if err != nil {
		return nil, wrong
	}
	kept, err := s.read()
	if err != nil {
		return nil, err
	}
	var differ []Secret
	for _, n := range secrets {
		if slices.ContainsFunc(kept, func(o Secret) bool {
			return o.Repository == n.Repository && o.Key == n.Key && o.Value != n.Value
		}) {
			differ = append(differ, n)
		}
	}
	if len(differ) > 0 && !replace(differ) {
		return nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeSecretsDiffer,
			Text: fmt.Sprintf("the pack would replace what is kept of %s, and nothing of it was "+
				"kept", namesOf(differ)),
			Remedy: "If it is to be replaced: nharbor locker unpack --replace FILE"}
	}
	return secrets, s.Put(secrets...)
}

// ofSSH are the identities of the person's own keys for ssh that can be read without being asked.
func ofSSH() (list []age.Identity) {
	home, err := os.UserHomeDir()
	if err != nil {
		return nil
	}
	for _, name := range []string{"id_ed25519", "id_rsa"} {
		data, err := reading.File(filepath.Join(home, ".ssh", name), maxKey)
		if err != nil {
			continue
		}
		if ssh, err := agessh.ParseIdentity(data); err == nil {
			list = append(list, ssh)
		}
	}
	return list
}

// namesOf are the names of secrets, with their repositories.
func namesOf(list []Secret) string {
	var names []string
	for _, s := range list {
		names = append(names, s.Key+" for "+s.Repository)
	}
	return strings.Join(names, ", ")
}

func decode(r io.Reader) ([]Secret, error) {
	var c content
	if err := json.NewDecoder(r).Decode(&c); err != nil {
		return nil, errors.New("what it holds can't be " +
			"understood") // the error of the decoder may show a value
	}
	if c.Schema != schema {
		return nil, fmt.Errorf("it was written by another version (%q)", c.Schema)
	}
	return c.Secrets, nil
}

// maxKey bounds a file that holds a key, in bytes.
const maxKey = 64 << 10

// own is the private key, which is made if there is none.
func (s *Store) own() (*age.X25519Identity, error) {
	id, err := s.identity(false)
	if id != nil || err != nil {
		return id, err
	}
	if err := s.change(func(all []Secret) []Secret { return all }); err != nil {
		return nil, err
	}
	return s.identity(false)
}

// identity reads the private key. If there is none it is nil, or, where that is wanted and the
// locker is closed against others, made.
func (s *Store) identity(create bool) (*age.X25519Identity, error) {
	info, err := os.Stat(s.Identity)
	if errors.Is(err, fs.ErrNotExist) {
		if !create {
			return nil, nil
		}
		id, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		text := fmt.Sprintf(
			"# The private key of the locker of nharbor. Whoever has it can read what the "+
				"locker holds.\n# public key: %s\n%s\n", id.Recipient(), id)
		if err = os.MkdirAll(filepath.Dir(s.Identity), 0o700); err == nil {
			err = workspace.WriteFile(s.Identity, []byte(text), 0o600)
		}
		if err != nil {
			return nil, unusable(s.Identity, "the locker's key can't be made: "+stack.Reason(err),
				err)
		}
		return id, nil
	}
	if err != nil {
		return nil, unusable(s.Identity, "the locker's key can't be read: "+stack.Reason(err), err)
	}
	if runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeIdentityOpen,
			At:     stack.Place{File: s.Identity},
			Text:   "others can read the private key of the locker, so it is not used",
			Remedy: "Take their rights away: chmod 600 " + s.Identity}
	}
	data, err := reading.File(s.Identity, maxKey)
	if err != nil {
		return nil, unusable(s.Identity, "the locker's key can't be read: "+stack.Reason(err), err)
	}
	ids, err := age.ParseIdentities(bytes.NewReader(data))
	if err == nil && len(ids) > 0 {
		if id, ok := ids[0].(*age.X25519Identity); ok {
			return id, nil
		}
	}
	return nil, unusable(s.Identity, "the file holds no private key of age", nil)
}

func unusable(file, text string, cause error) error {
	return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeLockerUnusable,
		At: stack.Place{File: file}, Text: text,
		Remedy: "Check the file and its rights, or put the one from your backup back. Without " +
			"the locker: --no-locker", Cause: cause}
}

func (s *Store) read() ([]Secret, error) {
	data, err := reading.File(s.File, reading.Usual)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, unusable(s.File, "the locker can't be read: "+stack.Reason(err), err)
	}
	id, err := s.identity(false)
	if err != nil {
		return nil, err
	}
	if id == nil {
		return nil, unusable(s.Identity,
			"the private key of the locker is gone, without which it can't be opened", nil)
	}
	plain, err := age.Decrypt(bytes.NewReader(data), id)
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return nil, unusable(s.File,
			"the locker was closed with another key than the one at "+s.Identity, err)
	}
	if err != nil {
		return nil, unusable(s.File, "the locker is damaged", nil)
	}
	secrets, err := decode(plain)
	if err != nil {
		return nil, unusable(s.File, "the locker is damaged: "+err.Error(), nil)
	}
	return secrets, nil
}

// change replaces the locker's content at once or not at all.
func (s *Store) change(f func([]Secret) []Secret) error {
	if err := os.MkdirAll(filepath.Dir(s.File), 0o700); err != nil {
		return unusable(s.File, "the locker can't be made: "+stack.Reason(err), err)
	}
	lock := flock.New(s.File + ".lock")
	if err := lock.Lock(); err != nil {
		return unusable(s.File, "the locker can't be closed against others: "+stack.Reason(err),
			err)
	}
	defer lock.Unlock()
	all, err := s.read()
	if err != nil {
		return err
	}
	id, err := s.identity(true)
	if err != nil {
		return err
	}
	all = f(all)
	slices.SortFunc(all, func(a, b Secret) int {
		return strings.Compare(a.Repository+"\x00"+a.Key, b.Repository+"\x00"+b.Key)
	})
	var out bytes.Buffer
	if err := encrypt(&out, id.Recipient(), all); err != nil {
		return err
	}
	if err := workspace.WriteFile(s.File, out.Bytes(), 0o600); err != nil {
		return unusable(s.File, "the locker can't be written: "+stack.Reason(err)+"; what it "+
			"held is unchanged", err)
	}
	return nil
}
