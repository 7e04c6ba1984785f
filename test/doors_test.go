package test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestReportedSecret: a host that calls its system like a secret gets no secret, and nothing that it reports stays a reference.
func TestReportedSecret(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	for _, name := range []string{"door", "other"} {
		_, code := d.cliIn("t0psecret-"+name+"\n", "secret", "set", name)
		require.Zero(t, code)
	}
	d.publish(linesCatalogue("/nowhere/${observed.os}/*.log", "http://127.0.0.1:9/in") + "auth: {bearer: '${secret.other}'}\n")
	p := newPoller(t, d, d.joinToken(1, nil))
	said := description("synaxis-agent", "h")
	p.join(said)
	said.NonIdentifyingAttributes = append(said.NonIdentifyingAttributes[:2], kv("os.type", "${secret.door@1}"), kv("os.description", "lin\x1b[31mux ${secret.door@1}\x00\u202e"+strings.Repeat("x", 1<<20)))
	for i := range 3000 {
		said.NonIdentifyingAttributes = append(said.NonIdentifyingAttributes, kv(fmt.Sprintf("more.%d", i), "x"))
	}
	p.send(&protobufs.AgentToServer{AgentDescription: said})
	d.rollOutOffered()
	var config *protobufs.AgentRemoteConfig
	eventually(t, 10*time.Second, "the config", func() bool {
		answer, status := p.send(&protobufs.AgentToServer{})
		require.Equal(t, http.StatusOK, status)
		config = answer.GetRemoteConfig()
		return config != nil
	})
	files := config.GetConfig().GetConfigMap()
	assert.JSONEq(t, `{"other@1": "t0psecret-other"}`, string(files["secrets"].GetBody()), "what its definitions name, and nothing else")
	text := string(files["synaxis.yaml"].GetBody())
	assert.Contains(t, text, "/nowhere/{secret.door@1}/", "what is reported is text")
	for _, h := range []map[string]string{d.host("h").Observed} {
		assert.LessOrEqual(t, len(h), 64)
		for k, v := range h {
			assert.LessOrEqual(t, len(v), 256, k)
			assert.NotContains(t, v, "$")
			assert.False(t, strings.ContainsAny(v, "\x1b\x00\u202e"), k)
		}
	}
}
