package access

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/google/uuid"
)

// A waitingKey is one that was made while no service ran: without its secret, as the database
// would keep it.
type waitingKey struct {
	Name    string    `json:"name"`
	Scope   Scope     `json:"scope"`
	Sites   []string  `json:"sites"`
	Origins []string  `json:"origins"`
	Start   string    `json:"start"`
	Hash    string    `json:"sha256"`
	Made    time.Time `json:"made"`
}

// waitingFile is where such keys wait in the data directory.
func waitingFile(dataDir string) string { return filepath.Join(dataDir, "keys", "waiting.json") }

// Wait makes a key that the service of a data directory takes over when it starts, and gives its
// secret, which is not kept. Of the key only name, scope, sites and origins are read.
func Wait(dataDir string, key Key, now time.Time) (secret string, err error) {
	file := waitingFile(dataDir)
	list, err := readWaiting(file)
	if err != nil {
		return "", err
	}
	secret, hash := newSecret(string(key.Scope))
	list = append(list, waitingKey{key.Name, key.Scope, key.Sites, key.Origins, startOf(secret), hex.EncodeToString(hash[:]), now.UTC()})
	text, err := json.MarshalIndent(list, "", "  ")
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(dataDir, 0o755); err != nil { // which the database's own user passes
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return "", err
	}
	if err := os.WriteFile(file+".new", append(text, '\n'), 0o600); err != nil {
		return "", err
	}
	return secret, os.Rename(file+".new", file)
}

func readWaiting(file string) (list []waitingKey, err error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		if err = json.Unmarshal(text, &list); err != nil {
			err = fmt.Errorf("%s: %w: remove it, and make the keys with eastporch keys create", file, err)
		}
	}
	return list, err
}

// TakeOver puts the keys into force that waited in a data directory, each once, and gives how many.
func (k *Keys) TakeOver(ctx context.Context, dataDir string) (int, error) {
	file := waitingFile(dataDir)
	list, err := readWaiting(file)
	if err != nil || len(list) == 0 {
		return 0, err
	}
	known, err := k.store.Keys(ctx)
	if err != nil {
		return 0, err
	}
	taken := 0
	for _, w := range list {
		sum, err := hex.DecodeString(w.Hash)
		if err != nil || len(sum) != len(Key{}.Hash) || !w.Scope.Valid() {
			return taken, fmt.Errorf("%s: the key %q is not whole: remove it, and make one with eastporch keys create", file, w.Name)
		}
		key := Key{Name: w.Name, Scope: w.Scope, Sites: append([]string{}, w.Sites...), Origins: append([]string{}, w.Origins...), Start: w.Start, Created: w.Made.Truncate(time.Millisecond), Hash: [32]byte(sum), Maker: Maker{Name: "eastporch init"}}
		if slices.ContainsFunc(known, func(one Key) bool { return one.Hash == key.Hash }) {
			continue
		}
		if key.ID, err = uuid.NewV7(); err != nil {
			return taken, err
		}
		event, err := NewEvent(k.now(), "key created", key.Maker.Name, fmt.Sprintf("%s (%s, %s…)", key.Name, key.Scope, key.Start))
		if err == nil {
			err = k.store.AddKey(ctx, key, event)
		}
		if err != nil {
			return taken, err
		}
		taken++
	}
	return taken, errors.Join(os.Remove(file), k.Renew(ctx))
}
