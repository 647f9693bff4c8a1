// Package draft writes a first definition of a system that nobody has joined yet: from what a person says of it, from an answer of
// its own, or from its OpenAPI document (OpenAPI 3). What it cannot know it leaves open and says so; what it writes passes the check
// of definitions. It calls nobody and keeps nothing.
package draft
