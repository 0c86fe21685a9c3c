package trial

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/input/config"
	"obiter/internal/target/service"
)

// within is how long a service may take until it is ready, where the configuration does not
// say.
const within = 60 * time.Second

// ServiceLog is where the output of a service that is started is kept.
var ServiceLog = service.LogIn(RunFolder)

// ServiceError is a service that could not be started, or did not come.
type ServiceError struct {
	Start string // the command
	Cause *service.Error
}

func (e *ServiceError) Error() string {
	return fmt.Sprintf("the service (%s) %v", e.Start, e.Cause)
}

func (e *ServiceError) Unwrap() error { return e.Cause }

// startService starts the service that is tried, where the configuration says how.
func (t *trial) startService(ctx context.Context) (stop func(), err error) {
	s := t.conf.Service
	if s == nil || s.Start == "" || t.opt.Running {
		return func() {}, nil
	}
	t.tellService("starting the service: " + s.Start)
	opt := t.serviceOptions(s)
	begun := time.Now()
	p, err := service.Start(ctx, opt)
	if failed, is := err.(*service.Error); is {
		for _, line := range failed.Last {
			t.tellService("  | " + line)
		}
		return func() {}, &ServiceError{s.Start, failed}
	}
	if err != nil {
		return func() {}, err
	}
	t.tellService(fmt.Sprintf("it is ready after %s; its output is in %s", time.Since(begun).Round(10*time.Millisecond), opt.Log))
	t.process = p
	return func() {
		t.sender.Close() // a service that ends in order waits for connections on which nothing came yet
		p.Stop()
	}, nil
}

func (t *trial) serviceOptions(s *config.Service) service.Options {
	opt := service.Options{Start: s.Start, Folder: s.Folder, Log: service.LogIn(t.opt.Folder), Ready: t.isReady(s), Within: s.Within, Redact: t.opt.Secrets.Redact, Daemons: s.Daemons,
		Ended: func(name string) { t.tellService("ended what the service left running: " + name) }}
	if opt.Within == 0 {
		opt.Within = within
	}
	return opt
}

// revive starts the service again that ended during the run, so that records can be deleted which
// it may have stored. It does so once.
func (t *trial) revive(ctx context.Context) {
	if t.process == nil || !t.dead.Load() {
		return
	}
	t.revived.Do(func() {
		s := t.conf.Service
		t.process.Stop() // what is left of it
		opt := t.serviceOptions(s)
		opt.Log, opt.Ended = filepath.Join(filepath.Dir(opt.Log), "undo.log"), nil // what it wrote when it ended stays
		p, err := service.Start(ctx, opt)
		if err != nil {
			t.tellService("it could not be started again to delete records: " + err.Error())
			return
		}
		t.tellService("the service is started again to delete records")
		t.stopRevived = p.Stop
	})
}

func (t *trial) tellService(text string) {
	t.telling.Lock()
	defer t.telling.Unlock()
	if t.events.Service != nil {
		t.events.Service(t.opt.Secrets.Redact(text))
	}
}

// asking bounds a question whether the service is ready.
const asking = 2 * time.Second

// isReady asks the service whether it is ready: for the configured answer below 500, else
// whether its port takes connections.
func (t *trial) isReady(s *config.Service) func(ctx context.Context) error {
	base := t.opt.Base
	if s.Ready == "" {
		port := base.Port()
		if port == "" {
			port = map[string]string{"http": "80", "https": "443"}[base.Scheme]
		}
		return func(ctx context.Context) error {
			c, err := (&net.Dialer{Timeout: asking}).DialContext(ctx, "tcp", net.JoinHostPort(base.Hostname(), port))
			if err == nil {
				err = c.Close()
			}
			return err
		}
	}
	client := &http.Client{Timeout: asking, Transport: &http.Transport{TLSClientConfig: t.opt.Send.TLS, DisableKeepAlives: true}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	address := base.JoinPath(s.Ready).String()
	return func(ctx context.Context) error {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
		if err != nil {
			return err
		}
		res, err := client.Do(req)
		if err != nil {
			return err
		}
		defer res.Body.Close()
		if res.StatusCode >= http.StatusInternalServerError {
			return fmt.Errorf("GET %s was answered with %d", address, res.StatusCode)
		}
		return nil
	}
}

// alive reports why the service cannot be reached; how it ended, if it did.
func (t *trial) alive(ctx context.Context) error {
	if t.process != nil {
		if how, last, ended := t.process.Ended(); ended {
			t.dead.Store(true)
			t.ended.Do(func() {
				for _, line := range last {
					t.tellService("  | " + line)
				}
			})
			return fmt.Errorf("the service ended with %s", how)
		}
	}
	return t.sender.Reach(ctx)
}

// dying is how long a service is given to end after it cut a request off.
const dying = 2 * time.Second

// died notes of an answer that did not come that the service ended, where no other request
// can be what ended it.
func (t *trial) died(a *exchange.Answer) {
	if t.process == nil || !t.opt.Alone || a.Err == "" {
		return
	}
	for end := time.Now().Add(dying); ; time.Sleep(10 * time.Millisecond) {
		if how, _, ended := t.process.Ended(); ended || time.Now().After(end) {
			a.Died = how
			return
		}
	}
}
