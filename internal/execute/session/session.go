// Package session keeps what is known of a service from one run to the next: it stores runs by
// address, reads several as one, sends again what failed, goes on after the service ended, and
// judges what others captured. The command line and handlertest say what becomes of it.
package session

import (
	"obiter/internal/core/secret"
	"obiter/internal/execute/run"
)

// Session is what all that is done in one folder has in common.
type Session struct {
	Store
	Program string      // and its version, for run files
	Known   run.Known   // causes that are counted apart
	Secrets *secret.Set // what nothing is written with
}
