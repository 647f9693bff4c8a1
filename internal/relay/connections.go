package relay

import "openrelay/internal/connector"

// sellsLabels tells whether a connection is a carrier whose prices can be asked.
func sellsLabels(c *conn) bool {
	def := c.line().Def
	return def.Feeds["labels out"] != nil && (def.Calls["tariff"] != nil || def.Calls["rates"] != nil)
}

func readable(def *connector.Definition, kind string) bool {
	f := def.Feeds[kind]
	return f != nil && f.Read != nil
}
