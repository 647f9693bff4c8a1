package api

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"openrelay/internal/connector"
	"openrelay/internal/connector/draft"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

type readFolderInput struct {
	Anyway bool `query:"anyway" doc:"Although records that are kept would be taken otherwise, or not at all"`
}

func (a *API) readConnectors(ctx context.Context, in *readFolderInput) (*body[joining.FolderRead], error) {
	read, err := a.relay.ReadFolder(ctx, in.Anyway, who(ctx))
	return &body[joining.FolderRead]{read}, err
}

type definition struct {
	Body struct {
		File string `json:"file,omitempty" maxLength:"200" doc:"Name that mistakes are reported with"`
		Text string `json:"text" maxLength:"1000000"`
	}
}

func (a *API) fileName(file string) string {
	if file == "" {
		return "definition.yaml"
	}
	return file
}

func (a *API) checkConnector(_ context.Context, in *definition) (*body[wire.DefinitionCheck], error) {
	d, err := connector.Load(a.fileName(in.Body.File), []byte(in.Body.Text), a.relay.Library())
	var bad connector.Mistakes
	if errors.As(err, &bad) {
		return &body[wire.DefinitionCheck]{wire.DefinitionCheck{Mistakes: bad, In: []message.Feed{}, Out: []message.Feed{}}}, nil
	}
	if err != nil {
		return nil, err
	}
	can := d.Capabilities()
	return &body[wire.DefinitionCheck]{wire.DefinitionCheck{Good: true, Mistakes: []connector.Mistake{}, Title: d.Title,
		Connector: d.Connector, Known: a.relay.Connector(d.Connector) != nil,
		Added: a.relay.Added(d.Connector), In: can.In, Out: can.Out}}, nil
}

type addedDefinition struct {
	Body struct {
		File   string `json:"file,omitempty" maxLength:"200" doc:"Name that mistakes are reported with"`
		Text   string `json:"text" maxLength:"1000000"`
		Anyway bool   `json:"anyway,omitempty" doc:"Although records that are kept would be taken otherwise, or not at all"`
		Note   string `json:"note,omitempty" maxLength:"200" doc:"What was changed, kept with the version"`
	}
}

func (a *API) addConnector(ctx context.Context, in *addedDefinition) (*body[wire.Connector], error) {
	d, err := a.relay.AddDefinition(ctx, joining.NewDefinition{File: a.fileName(in.Body.File), Text: in.Body.Text, Anyway: in.Body.Anyway,
		Note: strings.TrimSpace(in.Body.Note)}, who(ctx))
	if err != nil {
		return nil, err
	}
	return &body[wire.Connector]{a.connector(d, 0)}, nil
}

func (a *API) compareConnector(ctx context.Context, in *definition) (*body[joining.Comparison], error) {
	c, err := a.relay.CompareDefinition(ctx, a.fileName(in.Body.File), in.Body.Text)
	return &body[joining.Comparison]{c}, err
}

func (a *API) connectorVersions(ctx context.Context, in *connectorCodeInput) (*body[[]wire.DefinitionVersion], error) {
	if a.relay.Connector(in.Code) == nil {
		return nil, fmt.Errorf("connector %s: %w", in.Code, store.ErrNotFound)
	}
	list, err := a.relay.Store.DefinitionVersions(ctx, in.Code)
	out := make([]wire.DefinitionVersion, len(list))
	for i, v := range list {
		out[i] = wire.DefinitionVersion{Version: v.Version, At: store.Time(v.At), Who: v.Who, Note: v.Note}
	}
	return &body[[]wire.DefinitionVersion]{out}, err
}

type connectorVersionInput struct {
	Code    string `path:"code" maxLength:"60"`
	Version int64  `path:"version"`
}

func (a *API) connectorVersion(ctx context.Context, in *connectorVersionInput) (*body[wire.DefinitionVersionText], error) {
	v, err := a.relay.DefinitionVersion(ctx, in.Code, in.Version)
	if err != nil {
		return nil, err
	}
	changed, err := a.relay.VersionChanged(ctx, v)
	return &body[wire.DefinitionVersionText]{wire.DefinitionVersionText{Text: v.Text, Lines: changed,
		DefinitionVersion: wire.DefinitionVersion{Version: v.Version, At: store.Time(v.At), Who: v.Who, Note: v.Note}}}, err
}

type earlierVersionInput struct {
	Code string `path:"code" maxLength:"60"`
	Body struct {
		Version int64 `json:"version" minimum:"1"`
		Anyway  bool  `json:"anyway,omitempty" doc:"Although records that are kept would be taken otherwise, or not at all"`
	}
}

func (a *API) takeBackConnector(ctx context.Context, in *earlierVersionInput) (*body[wire.Connector], error) {
	d, err := a.relay.TakeDefinitionBack(ctx, in.Code, in.Body.Version, in.Body.Anyway, who(ctx))
	if err != nil {
		return nil, err
	}
	return &body[wire.Connector]{a.connector(d, 0)}, nil
}

func (a *API) dropConnector(ctx context.Context, in *connectorCodeInput) (*struct{}, error) {
	return nil, a.relay.DropDefinition(ctx, in.Code, who(ctx))
}

type draftInput struct{ Body draft.Wish }

func (a *API) draftConnector(_ context.Context, in *draftInput) (*body[draft.Draft], error) {
	d, err := draft.New(in.Body)
	if err != nil {
		return nil, engine.Refuse("%v", err)
	}
	return &body[draft.Draft]{d}, nil
}

type typingInput struct{ Body connector.Typing }

func (a *API) completeConnector(_ context.Context, in *typingInput) (*body[connector.Completions], error) {
	return &body[connector.Completions]{connector.Complete(in.Body, a.relay.Library())}, nil
}

type tryDefinitionInput struct {
	Body struct {
		Text   string       `json:"text" maxLength:"1000000"`
		Feed   message.Feed `json:"feed" maxLength:"40"`
		Sample string       `json:"sample" maxLength:"1000000" doc:"A record of theirs for a feed that comes in, a message of ours for one that goes out"`
	}
}

func (a *API) tryConnector(ctx context.Context, in *tryDefinitionInput) (*body[joining.Tried], error) {
	t, err := a.relay.TryDefinition(ctx, a.fileName(""), in.Body.Text, in.Body.Feed, in.Body.Sample)
	return &body[joining.Tried]{t}, err
}

type connectorSampleInput struct {
	Code string       `path:"code" maxLength:"60"`
	Feed message.Feed `maxLength:"40" query:"feed"`
}

func (a *API) connectorSample(ctx context.Context, in *connectorSampleInput) (*body[wire.Sample], error) {
	text, err := a.relay.DefinitionSample(ctx, in.Code, in.Feed)
	return &body[wire.Sample]{wire.Sample{Text: text}}, err
}
