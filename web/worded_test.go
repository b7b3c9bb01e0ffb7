package web

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// What a handler sends comes as it is, also where it reads like a refusal of the server: at the beginning of what goes
// out at once, one request after another on the same connection.
func TestContentIsNotTakenForARefusal(t *testing.T) {
	for _, content := range []string{"HTTP/1.1 417 Expectation Failed\r\nConnection: close\r\n\r\n",
		"HTTP/1.1 400 Bad Request\r\nContent-Type: text/plain; charset=utf-8\r\nConnection: close\r\n\r\n400 Bad Request"} {
		require.NotNil(t, ofServer([]byte(content)))
		server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", strconv.Itoa(2*len(content)))
			for range 2 {
				w.(http.Flusher).Flush()
				io.WriteString(w, content)
			}
		}))
		server.Listener = worded(server.Config, server.Listener)
		server.Start()
		for range 3 {
			response, err := server.Client().Get(server.URL)
			require.NoError(t, err)
			got, err := io.ReadAll(response.Body)
			require.NoError(t, err)
			require.Equal(t, content+content, string(got))
		}
		server.Close()
	}
}
