package handlertest_test

import (
	"encoding/json"
	"net/http"
	"testing"

	"obiter/handlertest"
)

// NewHandler is the service under test.
func NewHandler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /berths", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode([]string{"A1", "C12"})
	})
	return mux
}

func Example() {
	// In a file that ends in _test.go:
	_ = func(t *testing.T) {
		handlertest.Run(t, NewHandler(), "openapi.yaml",
			handlertest.Config("obiter.yaml"),
			handlertest.Skip("DELETE *"),
			handlertest.Depth("usual"))
	}
}
