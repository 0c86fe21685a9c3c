package send_test

import (
	"context"
	"encoding/base64"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/target/send"
)

func TestCredentials(t *testing.T) {
	var got *http.Request
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { got = r }))
	defer server.Close()
	base, err := url.Parse(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	s, err := send.New(base, send.Options{Headers: [][2]string{{"Authorization", "Bearer abc1"}, {"X-Spare", "key9"}},
		Credentials: map[string]string{"token": "Tide-19", "user": "mate:high water", "key": "k&1"}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	basic := "Basic " + base64.StdEncoding.EncodeToString([]byte("mate:high water"))
	for _, c := range []struct {
		credential exchange.Credential
		header     string
		want       string
	}{
		{exchange.Credential{Scheme: "token", Kind: "bearer", In: "header", Name: "Authorization"}, "Authorization", "Bearer Tide-19"},
		{exchange.Credential{Scheme: "token", Kind: "bearer", In: "header", Name: "Authorization", Flaw: "missing"}, "Authorization", ""},
		{exchange.Credential{Scheme: "token", Kind: "bearer", In: "header", Name: "Authorization", Flaw: "wrong"}, "Authorization", "Bearer [A-Z][a-z]{3}-[0-9]{2}"},
		{exchange.Credential{Scheme: "token", Kind: "bearer", In: "header", Name: "Authorization", Flaw: "malformed"}, "Authorization", "Bearer no token, but words"},
		{exchange.Credential{Scheme: "user", Kind: "basic", In: "header", Name: "Authorization"}, "Authorization", basic},
		{exchange.Credential{Scheme: "user", Kind: "basic", In: "header", Name: "Authorization", Flaw: "malformed"}, "Authorization", "Basic %%%"},
		{exchange.Credential{Scheme: "of a header", Kind: "bearer", In: "header", Name: "Authorization"}, "Authorization", "Bearer abc1"},
		{exchange.Credential{Scheme: "of a header", Kind: "bearer", In: "header", Name: "Authorization", Flaw: "wrong"}, "Authorization", "Bearer [a-z]{3}[0-9]"},
		{exchange.Credential{Scheme: "of a header", Kind: "apiKey", In: "header", Name: "X-Spare", Flaw: "missing"}, "X-Spare", ""},
		{exchange.Credential{Scheme: "key", Kind: "apiKey", In: "query", Name: "api key"}, "query", "a=1&api+key=k%261"},
		{exchange.Credential{Scheme: "key", Kind: "apiKey", In: "query", Name: "api key", Flaw: "missing"}, "query", "a=1"},
		{exchange.Credential{Scheme: "key", Kind: "apiKey", In: "cookie", Name: "watch"}, "Cookie", "b=2; watch=k&1"},
	} {
		a := s.Send(context.Background(), exchange.Case{ID: "0123456789", Credentials: []exchange.Credential{c.credential},
			Request: exchange.Request{Method: "GET", URL: server.URL + "/x?a=1", Headers: [][2]string{{"Cookie", "b=2"}}}})
		if a.Err != "" {
			t.Fatal(a.Err)
		}
		value := strings.Join(got.Header.Values(c.header), "|")
		if c.header == "query" {
			value = got.URL.RawQuery
		}
		matched, _ := regexp.MatchString("^(?:"+c.want+")$", value)
		if c.credential.Flaw == "wrong" && matched && !strings.Contains(value, "Tide") && !strings.Contains(value, "19") && !strings.Contains(value, "abc1") {
			continue
		}
		if value != c.want {
			t.Errorf("%+v sends %q, want %q", c.credential, value, c.want)
		}
	}
}
