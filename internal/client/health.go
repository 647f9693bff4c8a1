package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"

	"openrelay/internal/relay/attention"
)

// Health tells how the service is. It needs no token, and is an answer also where something fails.
func (c *Client) Health(ctx context.Context) (out attention.Health, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.Server+"/healthz", nil)
	if err != nil {
		return out, err
	}
	res, err := c.HTTP.Do(req)
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	if err := json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(&out); err != nil || out.State == "" {
		return out, fmt.Errorf("the service answered %s, and not how it is", res.Status)
	}
	return out, nil
}
