package config

import (
	"path/filepath"
	"strings"
	"time"

	"obiter/internal/input/document"
)

type serviceKeys struct{ Start, Ready, Within, Log, Daemons string }

// service reads how the service is started.
func (c *Config) service(r reader, f file) error {
	if f.Service == nil {
		return nil
	}
	var all []error
	ready, within, daemons := f.Service.Ready, f.Service.Within, f.Service.Daemons
	s := &Service{Start: f.Service.Start, Log: f.Service.Log, Folder: filepath.Dir(r.tree.Name)}
	switch start := strings.TrimSpace(s.Start) != ""; {
	case !start && s.Log == "":
		all = append(all, r.tree.Fail("/service", "for example start: go run ./cmd/office", "there is no start: in service:, the command that starts it, and no log:"))
	case start && s.Log != "":
		all = append(all, r.tree.Fail("/service/log", "with start: its output is kept in .obiter/service.log", "log: goes without start:"))
	case !start && ready+within != "":
		all = append(all, r.tree.Fail("/service", "take ready: and within: out, or write start:", "ready: and within: are for a service that is started"))
	}
	if s.Log != "" && !filepath.IsAbs(s.Log) {
		s.Log = filepath.Join(s.Folder, s.Log)
	}
	if ready != "" {
		method, path, ok := strings.Cut(ready, " ")
		if s.Ready = path; !ok || method != "GET" || !strings.HasPrefix(path, "/") {
			all = append(all, r.tree.Fail("/service/ready", "write it as GET /health", "%q is not a request that shows whether it is ready", ready))
		}
	}
	if within != "" {
		var err error
		if s.Within, err = time.ParseDuration(within); err != nil || s.Within <= 0 || s.Within > time.Hour {
			all = append(all, r.tree.Fail("/service/within", "write a time such as 90s", "%q is not a time until the service is ready", within))
		}
	}
	switch daemons {
	case "":
	case "live", "end":
		s.Daemons = daemons == "live"
	default:
		all = append(all, r.tree.Fail("/service/daemons", "use end or live", "unknown value %q for daemons:", daemons))
	}
	c.Service = s
	return document.Join(all...)
}
