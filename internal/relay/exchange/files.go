package exchange

import (
	"cmp"
	"errors"
	"fmt"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// seen tells whether a file with this content was taken before. One that was refused is read again: it may be we who erred.
func (g *reading) seen(hash string) (bool, error) {
	return g.Store.FileWasTaken(g.Ctx, g.c.ID, string(g.f.Kind), hash)
}

// took notes what became of a file. One that is wrong, as a whole or in a record, is raised: it does not come again by itself.
func (g *reading) took(f connector.TakenFile) error {
	return g.Commit(g.Ctx, func(ch *engine.Change) error {
		if err := g.begun(ch.Tx); err != nil {
			return err
		}
		row := store.File{ConnectionID: g.c.ID, Feed: string(g.f.Kind), Way: store.FileIn, Name: engine.Clip(f.Name, 200), Size: f.Size,
			Hash: f.Hash, At: ch.Now.UnixMicro(), Records: int64(f.Records), State: store.FileTaken}
		switch {
		case f.Again:
			row.State, row.Reason = store.FileAgain, "a file with this content came before; nothing was read"
			if err := ch.LogRun(g.run, "info", f.Name+": "+row.Reason, ch.Now); err != nil {
				return err
			}
		case len(f.Bad) > 0:
			row.State, row.Reason = store.FileRefused, engine.Clip(errors.Join(f.Bad...).Error(), 2000)
			n := int64(f.Wrong)
			if err := ch.AddToRun(g.run, store.Tally{Found: n, Failed: n}); err != nil {
				return err
			}
			if err := g.raiseFile(ch, f, row.Reason); err != nil {
				return err
			}
		default: // it came again, and is right now
			if row.Reason = leftOver(f); row.Reason != "" {
				if err := ch.LogRun(g.run, "warn", f.Name+": "+row.Reason, ch.Now); err != nil {
					return err
				}
			}
			if err := g.closeFile(ch, &row); err != nil {
				return err
			}
		}
		ch.Tell("file", g.c.Rec().Code)
		return ch.AddFile(row)
	})
}

// closeFile ends what is open about a file under its name, unless another feed has refused this very content: it reads other records of it.
func (g *reading) closeFile(ch *engine.Change, row *store.File) error {
	for _, kind := range g.c.Line().Def.Kinds() {
		if string(kind) == row.Feed {
			continue
		}
		if refused, err := ch.FileIsRefused(g.c.ID, string(kind), row.Hash); err != nil || refused {
			return err
		}
	}
	return ch.CloseConnectionSubject(g.c.ID, engine.FileNotTaken, row.Name, ch.Now)
}

func (g *reading) raiseFile(ch *engine.Change, f connector.TakenFile, reason string) error {
	what := "could not be read"
	if f.Records > f.Wrong {
		what = fmt.Sprintf("was read but for %d of its %d records", f.Wrong, f.Records)
	}
	ch.Tell("exception", "")
	if err := ch.LogRun(g.run, "error", f.Name+": "+reason, ch.Now); err != nil {
		return err
	}
	return ch.Raise(store.Exception{Cause: engine.FileNotTaken, Subject: engine.Clip(f.Name, 200), ConnectionID: g.c.ID,
		Text: fmt.Sprintf("The file %s of %s %s: %s", f.Name, g.c.Rec().Name, what, engine.Clip(reason, 1000)),
		Expected: "The file as it should be, under its name, in the folder it came to. What was taken of it is not taken twice. It lies " +
			"in the folder of files that failed."}, ch.Now)
}

// wrote notes a file that was written, and the reference that its receipt will name; empty: none comes.
func (r *Exchange) wrote(ch *engine.Change, c *engine.Conn, kind message.Feed, x connector.Exchange, receipt string) error {
	if x.File == "" {
		return nil
	}
	ch.Tell("file", c.Rec().Code)
	return ch.AddFile(store.File{ConnectionID: c.ID, Feed: string(kind), Way: store.FileOut, Name: engine.Clip(x.File, 200), Size: x.Size,
		At: ch.Now.UnixMicro(), Records: 1, Reference: receipt,
		State: cmp.Or(map[bool]string{true: store.FileAwaited}[receipt != ""], store.FileSent)})
}

// lookSoon has a feed read again when a file may have settled that is being written.
func (r *Exchange) lookSoon(c *engine.Conn, req engine.RunRequest, soon time.Duration) {
	if soon <= 0 {
		return
	}
	timer := time.NewTimer(soon + 10*time.Millisecond)
	r.Go(func() {
		defer timer.Stop()
		select {
		case <-timer.C:
			select {
			case c.Reader(req.Kind) <- engine.RunRequest{Kind: req.Kind, Cause: "schedule"}:
			default: // it is asked to read already
			}
		case <-c.Ctx.Done():
		}
	})
}
