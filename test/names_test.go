package test

import (
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// No project takes the place of a page of the console, or of something else that the service serves.
func TestProjectsStandInNobodysWay(t *testing.T) {
	router, err := os.ReadFile("../console/src/router.ts")
	require.NoError(t, err)
	found := []string{"api", "assets"} // the API, and the console's files
	for _, m := range regexp.MustCompile(`path: '/([a-z-]+)`).FindAllSubmatch(router, -1) {
		found = append(found, string(m[1]))
	}
	pages := len(found)
	for _, file := range []string{"../web/server.go", "../web/elsewhere.go"} {
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(`engine\.GET\("/([a-z-]+)/`).FindAllSubmatch(content, -1) {
			found = append(found, string(m[1]))
		}
	}
	require.Greater(t, pages, 8)
	require.Greater(t, len(found), pages+2)
	for _, name := range found {
		require.ErrorContains(t, api.CheckNewProjectKey(name), "has a page of that name", name)
	}
	require.NoError(t, api.CheckNewProjectKey("vessels"))
}
