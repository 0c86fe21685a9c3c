// Package sources says where the values and records come from that requests need: what the
// configuration says, what the description implies, and which records are the run's own.
package sources

import (
	"maps"
	"slices"
	"sync"

	"obiter/internal/input/config"
)

// Sources are the configuration with what the description implies. The configuration itself is
// not changed.
type Sources struct {
	*config.Config
	Fixtures    []config.Fixture // each after those whose values it needs
	Operations  map[string]config.Operation
	Credentials map[string]string // by security scheme: what it is sent with

	sorts     sorts
	sampled   map[string]bool // operations that a sample was given for
	creates   map[string]bool // POST operations that the description shows to create records
	texts     []string        // that go into every request; nil: not looked up yet
	authority map[string]bool // the names that headers and credentials are made of

	// mu guards what is learned while the service is tried, and what was looked up: operations are
	// tried side by side.
	mu       sync.Mutex
	rules    map[string][]config.Rule // that the service showed, by operation
	doubts   map[string]string        // by fixture: why its records were not seen to be of this run
	found    map[[2]string]found      // what source found, by operation and parameter; nil: nothing is kept yet
	stations map[string]collectionRef // where requests create or read records, by the requests
}

// found is what was found of a source.
type found struct {
	source
	ok bool
}

// Of are the sources that a configuration names by itself; Imply adds what a description shows. The
// error is one of fixtures that need one another.
func Of(conf *config.Config) (*Sources, error) {
	c := &Sources{Config: conf, Fixtures: slices.Clone(conf.Fixtures), Operations: maps.Clone(conf.Operations), Credentials: maps.Clone(conf.Credentials), stations: map[string]collectionRef{}}
	if err := c.inOrder(); err != nil {
		return nil, err
	}
	c.seeCredentials()
	return c, nil
}

// empty are sources of which only the description tells.
func empty() *Sources {
	return &Sources{Config: &config.Config{}, Operations: map[string]config.Operation{}, stations: map[string]collectionRef{}}
}

// Read reads a configuration, whose sources these are. The name serves messages; env looks an
// environment variable up.
func Read(name string, src []byte, env func(string) (string, bool)) (*Sources, error) {
	conf, err := config.Read(name, src, env)
	if err != nil {
		return nil, err
	}
	return Of(conf)
}
