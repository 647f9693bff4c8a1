package relay

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"

	"openrelay/internal/core/gs1"
	"openrelay/internal/core/packing"
	"openrelay/internal/core/stock"
	"openrelay/internal/store"
)

// NewConnection is a connection to be added.
type NewConnection struct {
	Code, Connector, Name, BaseURL string
	Secrets                        map[string]string
	Settings                       Settings
	Feeds                          map[string]bool // which feeds are on; others of the connector are off
}

// AddConnection tests a connection, notes who we are on the other side, and adds it.
func (r *Relay) AddConnection(ctx context.Context, n NewConnection, who string) error {
	def := r.lib[n.Connector]
	if def == nil {
		return Refuse("there is no connector %q", n.Connector)
	}
	for k, v := range n.Secrets {
		n.Secrets[k] = strings.TrimSpace(v)
	}
	for _, f := range def.Access.Fields {
		if n.Secrets[f.Name] == "" {
			return Refuse("%s is missing", f.Label)
		}
	}
	box, err := r.seal.seal(n.Secrets)
	if err != nil {
		return err
	}
	settings, err := json.Marshal(n.Settings)
	if err != nil {
		return err
	}
	err = r.commit(ctx, func(ch *change) error {
		id, err := ch.AddConnection(store.Connection{Code: n.Code, Connector: n.Connector, Side: def.Side, Name: n.Name, BaseURL: n.BaseURL,
			Credentials: box, Identity: "{}", Settings: string(settings), BeganAt: ch.now.UnixMicro()})
		if err != nil {
			return err
		}
		for _, kind := range def.Kinds() {
			if _, err := ch.AddFeed(store.Feed{ConnectionID: id, Kind: kind, On: n.Feeds[kind]}); err != nil {
				return err
			}
		}
		return ch.Note(store.Entry{At: ch.now.UnixMicro(), Who: who, Thing: "connection", ThingID: id, What: "joined", Text: n.Name + " joined"})
	})
	if err != nil {
		return err
	}
	return r.reload(ctx)
}

// AddLocation adds a place that holds stock.
func (r *Relay) AddLocation(ctx context.Context, l store.Location) (int64, error) {
	var id int64
	if err := r.commit(ctx, func(ch *change) (err error) { id, err = ch.AddLocation(l); return err }); err != nil {
		return 0, err
	}
	return id, r.reload(ctx)
}

// Opening is an item with its opening stock.
type Opening struct {
	Item   store.Item
	Counts map[int64]int64 // by location
	Bins   map[int64]string
}

// AddItems adds items with their opening stock.
func (r *Relay) AddItems(ctx context.Context, list []Opening, who string) error {
	for _, o := range list {
		if o.Item.GTIN != "" && !gs1.ValidGTIN(o.Item.GTIN) {
			return Refuse("item %s: %s is not a GTIN with a right check digit", o.Item.SKU, o.Item.GTIN)
		}
	}
	return r.commit(ctx, func(ch *change) error {
		book := stock.NewBook(nil)
		var entries []store.Entry
		for _, o := range list {
			id, err := ch.AddItem(o.Item)
			if err != nil {
				return err
			}
			for loc, bin := range o.Bins {
				if err := ch.SetBin(id, loc, bin); err != nil {
					return err
				}
			}
			for loc, n := range o.Counts {
				book.Post(stock.Movement{Key: stock.Key{Item: id, Location: loc}, At: ch.now, Kind: stock.Count, OnHand: n, Reason: "opening count", Who: who, DocKind: "hand"})
			}
			entries = append(entries, store.Entry{At: ch.now.UnixMicro(), Who: who, Thing: "item", ThingID: id, What: "added", Text: o.Item.Name + " added"})
		}
		if err := ch.Note(entries...); err != nil {
			return err
		}
		return r.post(ch, book)
	})
}

// AddProfiles adds parcel profiles.
func (r *Relay) AddProfiles(ctx context.Context, list []packing.Profile) error {
	return r.commit(ctx, func(ch *change) error {
		for _, p := range list {
			if err := ch.AddProfile(p); err != nil {
				return err
			}
		}
		return nil
	})
}

// Roles, from the least to the most that one may do.
var Roles = []string{"viewer", "operator", "admin"}

// PutUser adds a person, or sets name, role and password of the one with this e-mail.
func (r *Relay) PutUser(ctx context.Context, email, name, role, password string) error {
	if len(password) < 8 {
		return Refuse("password: at least 8 characters are expected")
	}
	if !strings.Contains(email, "@") {
		return Refuse("e-mail %q: an address is expected", email)
	}
	return r.commit(ctx, func(ch *change) error {
		return ch.PutUser(store.User{Email: strings.ToLower(email), Name: name, Role: role, PasswordHash: hashPassword(password)})
	})
}

// SignIn returns the person with this e-mail and password, or nil.
func (r *Relay) SignIn(ctx context.Context, email, password string) (*store.User, error) {
	u, err := r.Store.UserByEmail(ctx, strings.ToLower(strings.TrimSpace(email)))
	if err != nil && err != store.ErrNotFound {
		return nil, err
	}
	hash := u.PasswordHash
	if hash == "" {
		hash = dummyHash // takes as long as for somebody who exists
	}
	if !passwordFits(hash, password) || u.ID == 0 {
		return nil, nil
	}
	return &u, nil
}

// The parameters of argon2id follow RFC 9106, section 4, second recommendation, with a smaller memory
// so that a burst of sign-ins does not fill a small machine.
const (
	argonTime, argonMemory, argonLanes, argonLen = 3, 19 * 1024, 1, 32
)

var dummyHash = hashPassword("nobody's password")

func hashPassword(password string) string {
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		panic("no randomness: " + err.Error())
	}
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonLanes, argonLen)
	b := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", argonMemory, argonTime, argonLanes, b(salt), b(key))
}

func passwordFits(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || len(password) > 1000 {
		return false
	}
	var m, t uint32
	var p uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false
	}
	return subtle.ConstantTimeCompare(want, argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(want)))) == 1
}

// NewToken makes an API token. The text is shown once; only its hash is kept.
func (r *Relay) NewToken(ctx context.Context, name, role string) (string, error) {
	token := "relay_" + randomText(40)
	return token, r.AddToken(ctx, name, role, token)
}

// AddToken keeps an API token by its hash.
func (r *Relay) AddToken(ctx context.Context, name, role, token string) error {
	if len(token) < 20 {
		return Refuse("token: at least 20 characters are expected")
	}
	return r.commit(ctx, func(ch *change) error { return ch.AddToken(name, role, tokenHash(token), ch.now) })
}

// TokenFor returns whose token this is.
func (r *Relay) TokenFor(ctx context.Context, token string) (store.Token, error) {
	return r.Store.TokenByHash(ctx, tokenHash(token))
}

func tokenHash(token string) []byte {
	h := sha256.Sum256([]byte(token))
	return h[:]
}
