package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/open-telemetry/opamp-go/protobufs"
	"go.yaml.in/yaml/v3"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/render"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/assemble"
	"synaxis/internal/service/store"
)

const messages = 40_000

// statusMessages is small status messages over HTTP polling, with the whole of what the service does for each, against
// a bare Gin handler that decodes the same message. Both are called through the same server and client.
func statusMessages() (pair, error) {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "synaxis-bench-")
	if err != nil {
		return pair{}, err
	}
	st, err := store.Open(ctx, dir)
	if err != nil {
		return pair{}, err
	}
	o, err := assemble.New(
		ctx,
		st,
		assemble.World{Data: dir, Log: slog.New(slog.DiscardHandler), Now: time.Now, Note: func(string) {}},
	)
	if err != nil {
		return pair{}, err
	}
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	router.POST("/v1/opamp", func(c *gin.Context) {
		body, err := io.ReadAll(c.Request.Body)
		msg := &protobufs.AgentToServer{}
		if err == nil {
			err = proto.Unmarshal(body, msg)
		}
		if err != nil {
			c.Status(http.StatusBadRequest)
			return
		}
		out, err := proto.Marshal(&protobufs.ServerToAgent{InstanceUid: msg.InstanceUid})
		if err != nil {
			c.Status(http.StatusInternalServerError)
			return
		}
		c.Data(http.StatusOK, "application/x-protobuf", out)
	})
	ours, bare := httptest.NewServer(http.HandlerFunc(o.Agents.ServeOpAMP)), httptest.NewServer(router)
	const agentsAtOnce = 4
	var members [agentsAtOnce]member
	_, token, err := o.Membership.CreateJoinToken(ctx, store.Person{Name: "bench"}, store.JoinToken{}, time.Hour)
	if err != nil {
		return pair{}, err
	}
	for i := range members {
		members[i] = member{uid: bytes.Repeat([]byte{byte(i + 1)}, 16), bearer: token, name: fmt.Sprintf("host-%d", i)}
		if err := members[i].join(ours.URL); err != nil {
			return pair{}, err
		}
	}
	runCtx, stop := context.WithCancel(ctx)
	go o.Agents.Run(runCtx)
	go o.Rollouts.Run(runCtx)
	drive := func(url string) (int, error) {
		errs := make(chan error, agentsAtOnce)
		var wg sync.WaitGroup
		for i := range members {
			wg.Go(func() {
				for range messages / agentsAtOnce {
					if _, err := members[i].send(url, &protobufs.AgentToServer{}); err != nil {
						errs <- err
						return
					}
				}
			})
		}
		wg.Wait()
		select {
		case err := <-errs:
			return 0, err
		default:
			return messages, nil
		}
	}
	return pair{"status messages, against a bare Gin handler", "messages/s", 0.5,
		func() (int, error) { return drive(ours.URL + wire.OpAMPPath) },
		func() (int, error) { return drive(bare.URL + wire.OpAMPPath) },
		func() { stop(); ours.Close(); bare.Close(); _ = st.Close(); _ = os.RemoveAll(dir) }}, nil
}

// member is an agent over HTTP polling.
type member struct {
	uid          []byte
	bearer, name string
	sequence     uint64
}

var client = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 16}}

func (m *member) send(url string, msg *protobufs.AgentToServer) (*protobufs.ServerToAgent, error) {
	msg.InstanceUid, msg.SequenceNum, msg.Capabilities = m.uid, m.sequence, wire.AgentCapabilities
	m.sequence++
	body, err := proto.Marshal(msg)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequest(http.MethodPost, url, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+m.bearer)
	resp, err := client.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		return nil, err
	}
	answer := &protobufs.ServerToAgent{}
	if err := proto.Unmarshal(text, answer); err != nil || resp.StatusCode != http.StatusOK ||
		!bytes.Equal(answer.InstanceUid, m.uid) {
		return nil, fmt.Errorf("answered %s: %s", resp.Status, text)
	}
	return answer, nil
}

func (m *member) join(url string) error {
	d := &protobufs.AgentDescription{
		IdentifyingAttributes: []*protobufs.KeyValue{
			wire.TextAttribute("service.name", wire.ServiceName),
			wire.TextAttribute("host.name", m.name),
		},
	}
	answer, err := m.send(url+wire.OpAMPPath, &protobufs.AgentToServer{AgentDescription: d})
	if err != nil {
		return err
	}
	m.bearer = strings.TrimPrefix(
		answer.GetConnectionSettings().GetOpamp().GetHeaders().GetHeaders()[0].GetValue(),
		"Bearer ",
	)
	_, err = m.send(url+wire.OpAMPPath, &protobufs.AgentToServer{AgentDescription: d})
	return err
}

const (
	benchHosts   = 1000
	benchSources = 50
)

// rendering is 1,000 hosts with 50 sources each, hash and text, against encoding the same model with the YAML library.
func rendering() (pair, error) {
	var b strings.Builder
	for i := range benchSources {
		fmt.Fprintf(
			&b,
			"source: source-%d\nlabels: {team: boarding}\nhosts: all\nread: {files: "+
				"[\"${setting.root}/part-%d/*.log\"], except: [\"*.tmp\"]}\nformat: gate\ntime: {zone: "+
				"Europe/Lisbon}\nsend: [{to: archive}]\n---\n",
			i,
			i,
		)
	}
	b.WriteString(
		"format: gate\ntemplate: '{ts:time} lane={lane:int} {rest:remainder}'\ntime: {field: ts, layout: '%Y-%m-%d " +
			"%H:%M:%S'}\n---\ndestination: archive\ndeliver: {http: {url: \"http://archive.example/in\"}}\n",
	)
	defs, problems := catalogue.Parse("bench.yaml", []byte(b.String()))
	if len(problems) > 0 {
		return pair{}, problems[0]
	}
	cat, _ := catalogue.New(defs)
	hosts := make([]inventory.Host, benchHosts)
	for i := range hosts {
		hosts[i] = inventory.Host{
			Name:     fmt.Sprintf("host-%04d", i),
			Labels:   map[string]string{"site": "northpier", "role": "gate"},
			Settings: map[string]string{"root": fmt.Sprintf("/srv/%d", i)},
		}
	}
	models := make([]hostconfig.Config, benchHosts)
	r := render.New(render.Input{Catalogue: cat})
	for i, h := range hosts {
		c, err := hostconfig.Read([]byte(r.Host(&h).Text()), hostconfig.Runs)
		if err != nil {
			return pair{}, err
		}
		models[i] = c
	}
	ours := func() (int, error) {
		r := render.New(render.Input{Catalogue: cat}) // cold: no fragment is there yet
		var text []byte
		for _, h := range hosts {
			m := r.Host(&h)
			text = m.AppendText(text[:0])
			if len(m.Sources()) != benchSources || bytes.Count(text, []byte("- source: ")) != benchSources {
				return 0, fmt.Errorf("%s has %d sources", h.Name, len(m.Sources()))
			}
		}
		return benchHosts, nil
	}
	baseline := func() (int, error) {
		for _, m := range models {
			text, err := yaml.Marshal(m)
			if err != nil {
				return 0, err
			}
			if n := bytes.Count(text, []byte("keeporiginal:")); n != benchSources {
				return 0, fmt.Errorf("%s has %d sources", m.Host, n)
			}
		}
		return benchHosts, nil
	}
	// the aim is against the faster of the YAML writers that there are
	return pair{"rendering 1,000 hosts x 50 sources", "hosts/s", 12, ours, baseline, func() {}}, nil
}
