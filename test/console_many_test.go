package test

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// TestTenThousandHosts: the list of hosts begins with the worst of all, holds a page's worth of rows however many
// there are, and can be gone through to its end.
func TestTenThousandHosts(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	var csv strings.Builder
	csv.WriteString("host,label.site,label.role\n")
	const hosts = 10_000
	for i := range hosts {
		fmt.Fprintf(&csv, "host-%05d,s%d,r%d\n", i, i%7, i%11)
	}
	ctx, stop := context.WithTimeout(context.Background(), 3*time.Minute)
	defer stop()
	get[contract.ImportResult](
		t,
		first(d.api.ImportInventory(ctx, contract.InventoryImport{File: "h.csv", Text: csv.String()})),
		nil,
	)
	newPoller(t, d, d.joinToken(1, nil)).join(description("synaxis-agent", "zz-away"))
	tab := d.browse(ctx)
	require.NoError(t, tab.Open(d.url+"/hosts"))
	require.NoError(t, tab.See("zz-away"))
	count := func() int {
		text, err := tab.Eval(`String(document.querySelectorAll('tbody tr').length)`)
		require.NoError(t, err)
		n, err := strconv.Atoi(text)
		require.NoError(t, err)
		return n
	}
	assert.Less(t, count(), 150, "only rows near the window are in the page")
	first, err := tab.Eval(`document.querySelector('tbody tr').innerText`)
	require.NoError(t, err)
	assert.Contains(t, first, "zz-away")
	began := time.Now()
	for range 400 {
		_, err := tab.Eval(`window.scrollTo(0, document.body.scrollHeight); ''`)
		require.NoError(t, err)
		text, err := tab.Text()
		require.NoError(t, err)
		if strings.Contains(text, "host-09999") {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	require.NoError(t, tab.See("host-09999"))
	t.Logf("10,000 hosts were gone through in %s", time.Since(began).Round(time.Millisecond))
	assert.Less(t, count(), 150)
	if path := os.Getenv("SYNAXIS_PICTURE"); path != "" {
		picture, err := tab.Picture()
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, picture, 0o644))
	}
	require.NoError(t, tab.Open(d.url+"/hosts?sort=name&reverse=yes"))
	require.NoError(t, tab.See("zz-away"))
	require.NoError(t, tab.See("host-09999"))
}
