package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"openrelay/internal/connector"
	"openrelay/internal/connector/draft"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/setup"
	"openrelay/internal/wire"
)

// Connectors lists the systems that can be joined.
func (c *Client) Connectors(ctx context.Context) ([]wire.Connector, error) {
	return get[[]wire.Connector](ctx, c, "/connectors")
}

// AddConnector adds a connector definition, or the next version of one that was added before. anyway takes it although records that
// are kept would be taken otherwise.
func (c *Client) AddConnector(ctx context.Context, file, text, note string, anyway bool) (out wire.Connector, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connectors", map[string]any{"file": file, "text": text, "note": note, "anyway": anyway}, &out)
	return out, err
}

// CompareConnector tells what a definition would do otherwise than the one at work.
func (c *Client) CompareConnector(ctx context.Context, file, text string) (out joining.Comparison, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connectors/compare", map[string]string{"file": file, "text": text}, &out)
	return out, err
}

// ConnectorVersions lists the versions of a definition, the newest first.
func (c *Client) ConnectorVersions(ctx context.Context, code string) ([]wire.DefinitionVersion, error) {
	return get[[]wire.DefinitionVersion](ctx, c, "/connectors/"+esc(code)+"/versions")
}

// ConnectorVersion returns one version of a definition.
func (c *Client) ConnectorVersion(ctx context.Context, code string, version int64) (wire.DefinitionVersionText, error) {
	return get[wire.DefinitionVersionText](ctx, c, "/connectors/"+esc(code)+"/versions/"+strconv.FormatInt(version, 10))
}

// TakeBackConnector puts an earlier version of a definition to work again.
func (c *Client) TakeBackConnector(ctx context.Context, code string, version int64, anyway bool) (out wire.Connector, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connectors/"+esc(code)+"/take-back", map[string]any{"version": version, "anyway": anyway}, &out)
	return out, err
}

// ReadConnectors reads the folder of definitions anew.
func (c *Client) ReadConnectors(ctx context.Context, anyway bool) (out joining.FolderRead, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connectors/read-folder?anyway="+strconv.FormatBool(anyway), nil, &out)
	return out, err
}

// DropConnector removes a definition that was added and nobody uses.
func (c *Client) DropConnector(ctx context.Context, code string) error {
	_, err := c.Do(ctx, http.MethodDelete, "/connectors/"+esc(code), nil, nil)
	return err
}

// Accounts lists what lets us in at outside systems.
func (c *Client) Accounts(ctx context.Context) ([]wire.Account, error) {
	return get[[]wire.Account](ctx, c, "/accounts")
}

// StartJoin begins to set a connection up.
func (c *Client) StartJoin(ctx context.Context, n joining.NewJoin) (out wire.Join, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/joins", n, &out)
	return out, err
}

// Join returns a connection being set up.
func (c *Client) Join(ctx context.Context, code string) (wire.Join, error) {
	return get[wire.Join](ctx, c, "/connections/"+esc(code)+"/join")
}

// DropJoin gives a set-up up.
func (c *Client) DropJoin(ctx context.Context, code string) error {
	_, err := c.Do(ctx, http.MethodDelete, "/connections/"+esc(code)+"/join", nil, nil)
	return err
}

// TestAccess tests an access; it is kept only if it lets us in.
func (c *Client) TestAccess(ctx context.Context, code string, a joining.Access) (out engine.Tested, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connections/"+esc(code)+"/access", a, &out)
	return out, err
}

// AskConsent returns the other side's page on which a person lets us in. origin is the address of the
// service as that person's browser reaches it.
func (c *Client) AskConsent(ctx context.Context, code string, a joining.Access, origin string) (string, error) {
	var out wire.ConsentPage
	_, err := c.Do(ctx, http.MethodPost, "/connections/"+esc(code)+"/consent", struct {
		joining.Access
		Origin string `json:"origin"`
	}{a, origin}, &out)
	return out.Page, err
}

// Confirm says whether the account on the other side is the one that is meant.
func (c *Client) Confirm(ctx context.Context, code, number string, yes bool) (out wire.Join, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connections/"+esc(code)+"/confirm", map[string]any{"number": number, "yes": yes}, &out)
	return out, err
}

// SetSettings replaces the settings of a connection; the revision is the one seen.
func (c *Client) SetSettings(ctx context.Context, code string, s engine.Settings, revision int64) (out wire.Join, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/connections/"+esc(code)+"/settings", s, &out, Match(revision))
	return out, err
}

// SetOverrides replaces what a connection changes of its connector.
func (c *Client) SetOverrides(ctx context.Context, code, text string) (out wire.Join, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/connections/"+esc(code)+"/overrides", map[string]string{"overrides": text}, &out)
	return out, err
}

// SwitchOn puts a connection to work whose set-up is complete.
func (c *Client) SwitchOn(ctx context.Context, code string) (out wire.Join, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connections/"+esc(code)+"/switch-on", nil, &out)
	return out, err
}

// WouldLeave says what leaving a connection takes away and what stays.
func (c *Client) WouldLeave(ctx context.Context, code string) (joining.Leaving, error) {
	return get[joining.Leaving](ctx, c, "/connections/"+esc(code)+"/leave")
}

// Leave disconnects a connection.
func (c *Client) Leave(ctx context.Context, code string) (out wire.Join, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connections/"+esc(code)+"/leave", nil, &out)
	return out, err
}

// Renew renews the credentials of a connection at work.
func (c *Client) Renew(ctx context.Context, code string, a joining.Access) (out engine.Tested, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connections/"+esc(code)+"/renew", a, &out)
	return out, err
}

// Preview says what switching stock out on would change.
func (c *Client) Preview(ctx context.Context, code string) (joining.Preview, error) {
	return get[joining.Preview](ctx, c, "/connections/"+esc(code)+"/preview")
}

// AcceptPreview says that a preview was seen.
func (c *Client) AcceptPreview(ctx context.Context, code, digest string) error {
	_, err := c.Do(ctx, http.MethodPost, "/connections/"+esc(code)+"/preview", map[string]string{"digest": digest}, nil)
	return err
}

// FirstImport says how a first import stands.
func (c *Client) FirstImport(ctx context.Context, code string) (wire.ImportView, error) {
	return get[wire.ImportView](ctx, c, "/connections/"+esc(code)+"/import")
}

// LookAtImport looks at what is there, without changing anything.
func (c *Client) LookAtImport(ctx context.Context, code string, choose joining.ImportChoices) (out wire.ImportView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connections/"+esc(code)+"/import", choose, &out)
	return out, err
}

// GoOnWithImport brings over what was found.
func (c *Client) GoOnWithImport(ctx context.Context, code string) (out wire.ImportView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connections/"+esc(code)+"/import/go", nil, &out)
	return out, err
}

// SetTest puts a connection in test, or takes it live.
func (c *Client) SetTest(ctx context.Context, code string, test bool) (out wire.Join, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/connections/"+esc(code)+"/test-mode", map[string]bool{"test": test}, &out)
	return out, err
}

// ClearTests removes the test orders of a connection.
func (c *Client) ClearTests(ctx context.Context, code string) (int64, error) {
	var out wire.Cleared
	_, err := c.Do(ctx, http.MethodPost, "/connections/"+esc(code)+"/clear-tests", nil, &out)
	return out.Orders, err
}

// Sample is something to try a feed with.
func (c *Client) Sample(ctx context.Context, code string, feed message.Feed) (string, error) {
	out, err := get[wire.Sample](ctx, c, "/connections/"+esc(code)+"/sample?feed="+url.QueryEscape(string(feed)))
	return out.Text, err
}

// Try tries a mapping, or shows or sends one message.
func (c *Client) Try(ctx context.Context, code string, feed message.Feed, text string, send bool) (out joining.Tried, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connections/"+esc(code)+"/try", map[string]any{"feed": feed, "text": text, "send": send}, &out)
	return out, err
}

// Bench lists what was tried on a connection's bench.
func (c *Client) Bench(ctx context.Context, code string) ([]wire.BenchRow, error) {
	return get[[]wire.BenchRow](ctx, c, "/connections/"+esc(code)+"/bench")
}

// Locations lists the places that hold stock.
func (c *Client) Locations(ctx context.Context) ([]wire.Location, error) {
	return get[[]wire.Location](ctx, c, "/locations")
}

// CheckAddress asks the address service about an address.
func (c *Client) CheckAddress(ctx context.Context, a place.Address) (out message.AddressCheck, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/address-check", a, &out)
	return out, err
}

// ExportSetup returns the set-up of the company as text.
func (c *Client) ExportSetup(ctx context.Context) (string, error) {
	raw, _, err := c.Raw(ctx, http.MethodGet, "/api/v1/setup", nil)
	return string(raw), err
}

// PlanSetup says what applying a set-up would change.
func (c *Client) PlanSetup(ctx context.Context, text string, secrets map[string]map[string]string) (out []setup.Change, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/setup/plan", map[string]any{"text": text, "secrets": secrets}, &out)
	return out, err
}

// ApplySetup brings the company to what a set-up asks for.
func (c *Client) ApplySetup(ctx context.Context, text string, secrets map[string]map[string]string) (out joining.Applied, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/setup/apply", map[string]any{"text": text, "secrets": secrets}, &out)
	return out, err
}

// DraftConnector writes a first definition.
func (c *Client) DraftConnector(ctx context.Context, w draft.Wish) (out draft.Draft, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connectors/draft", w, &out)
	return out, err
}

// CompleteConnector lists what may stand where somebody types in a definition.
func (c *Client) CompleteConnector(ctx context.Context, t connector.Typing) (out connector.Completions, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connectors/complete", t, &out)
	return out, err
}

// TryConnector maps a sample by a definition as it is written, or shows what would be sent.
func (c *Client) TryConnector(ctx context.Context, text string, feed message.Feed, sample string) (out joining.Tried, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connectors/try", map[string]any{"text": text, "feed": feed, "sample": sample}, &out)
	return out, err
}

// ConnectorSample returns something to try a definition with.
func (c *Client) ConnectorSample(ctx context.Context, code string, feed message.Feed) (string, error) {
	out, err := get[wire.Sample](ctx, c, "/connectors/"+esc(code)+"/sample?feed="+url.QueryEscape(string(feed)))
	return out.Text, err
}
