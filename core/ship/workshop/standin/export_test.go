package standin

import (
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
)

// Routes are those of the protocol, as "GET /v1/items/{item}".
func (ws *Workshop) Routes() (list []string) {
	_ = chi.Walk(ws.handler().(chi.Routes),
		func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
			if strings.HasPrefix(route, "/v1") {
				list = append(list, method+" "+strings.TrimSuffix(route, "/"))
			}
			return nil
		})
	slices.Sort(list)
	return list
}

// Tidy removes what is too old, as if it were now.
func (ws *Workshop) Tidy(now time.Time) error { return ws.tidy(now) }
