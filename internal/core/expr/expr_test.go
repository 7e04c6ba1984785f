package expr

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func scope() Scope {
	return Scope{
		Record: true,
		Names: map[string]Type{
			"fields.lane":                      Int,
			"fields.result":                    Text,
			"fields.load":                      Float,
			"fields.http.response.status_code": Int,
		},
		Open:  []string{"labels"},
		Texts: []string{"labels"},
	}
}

func TestCheckTypesAndNames(t *testing.T) {
	t.Parallel()
	c, err := NewChecker(scope())
	require.NoError(t, err)
	open, err := NewChecker(
		Scope{
			Record: true,
			Open:   []string{"labels", "fields"},
			Texts:  []string{"labels"},
			Names:  map[string]Type{"fields.lane": Int},
		},
	)
	require.NoError(t, err)
	for text, want := range map[string]string{
		`fields.result == "OK" && fields.lane == 0`: "",
		`level >= WARN`:                                       "",
		`fields["lane"] > 3`:                                  "",
		`fields.http.response.status_code >= 500`:             "",
		`has(fields.lane) && labels.site == "north"`:          "",
		`fields.load == 3`:                                    "",
		`fields.load > 3 && fields.lane > 1.5`:                "",
		`fields.result.startsWith("O") || body.contains("x")`: "",
		`["a", "b"].exists(x, x == fields.result)`:            "",
		`int(fields.result) > 3`:                              "",
		`fields.lain == 3`:                                    "there is no fields.lain; did you mean fields.lane?",
		`fields["lain"] == 3`:                                 "there is no fields.lain; did you mean fields.lane?",
		`field.lane == 3`:                                     "did you mean fields.lane?",
		`label.site == "x"`:                                   "did you mean labels.site?",
		`level >= WARNING`:                                    "did you mean WARN?",
		`has(fields.dock)`:                                    "there is no fields.dock",
		`fields.lane == "3"`:                                  "== does not go between int and text",
		`fields["lane"] == "3"`:                               "== does not go between int and text",
		`fields.lane + 1`:                                     "gives int",
		`fields.lane ==`:                                      "it ends too early",
		`fields.lane = 4`:                                     "write ==",
		`fields.lane == 4 and level > INFO`:                   "write && for and",
		`fields.lane == 4 & level > INFO`:                     "write && for and",
		`fields.note == 'x`:                                   "a quote is not closed",
		`fields.lane == 4 )`:                                  "cannot be read",
		`fields.http.response == 3`:                           "there is no fields.http.response",
	} {
		_, err := c.Check(text, Bool)
		if want == "" {
			assert.NoError(t, err, text)
		} else {
			assert.ErrorContains(t, err, want, text)
		}
	}
	for _, text := range []string{`fields.anything == 3`, `fields.a.b == "x"`, `fields["x y"] > 2`,
		`fields.lane > 2`} {
		_, err := open.Check(text, Bool)
		assert.NoError(t, err, text)
	}
	_, err = open.Check(`fields.lane == "x"`, Bool)
	require.Error(t, err, "a declared field keeps its type beside open ones")
	k, err := c.Check(`"pier-" + string(fields.lane)`, Dyn)
	require.NoError(t, err)
	assert.Equal(t, Text, k.Type)
	assert.Equal(t, []string{"fields.lane"}, k.Uses())
}

func TestConstant(t *testing.T) {
	t.Parallel()
	c, err := NewChecker(scope())
	require.NoError(t, err)
	for text, want := range map[string]string{
		`true`:                                                "always",
		`false`:                                               "never",
		`!true || false`:                                      "never",
		`level >= WARN && level < INFO`:                       "never",
		`level >= WARN && WARN > level`:                       "never",
		`level >= WARN && level <= WARN`:                      "open",
		`level > WARN && level <= WARN`:                       "never",
		`fields.lane == 1 && fields.lane > 3`:                 "never",
		`fields.result == "a" && fields.result == "b"`:        "never",
		`fields.result == "a" && fields.result != "a"`:        "never",
		`fields.result in ["a", "b"] && fields.result == "c"`: "never",
		`fields.result in ["a", "b"] && fields.result == "a"`: "open",
		`fields.lane == 1 || false`:                           "open",
		`fields.lane == 1 || true`:                            "always",
		`level >= WARN`:                                       "open",
	} {
		k, err := c.Check(text, Bool)
		require.NoError(t, err, text)
		v, known := k.Constant()
		got := "open"
		if known {
			got = map[bool]string{true: "always", false: "never"}[v]
		}
		assert.Equal(t, want, got, text)
	}
}

var people = []*Facts{
	{
		Name:   "gate-1",
		Labels: map[string]string{"role": "gate", "site": "north"},
		OS:     "linux",
		Arch:   "amd64",
		System: "Debian GNU/Linux 13",
	},
	{Name: "kiosk-1", Labels: map[string]string{"role": "kiosk", "empty": ""}, OS: "linux", Arch: "arm64"},
	{Name: "desk"},
}

func TestHostConditions(t *testing.T) {
	t.Parallel()
	for text, want := range map[string][]bool{
		`labels.role == "gate"`:                              {true, false, false},
		`labels["role"] != "gate"`:                           {false, true, true},
		`labels.role in ["gate", "kiosk"]`:                   {true, true, false},
		`labels.site == ""`:                                  {false, true, true},
		`has(labels.empty)`:                                  {false, true, false},
		`!has(labels.role)`:                                  {false, false, true},
		`observed.os == "linux" && observed.arch != "amd64"`: {false, true, false},
		`host.name.startsWith("gate")`:                       {true, false, false},
		`host.name.matches("^k.*1$") || host.name == "desk"`: {false, true, true},
		`observed.name.contains("Debian")`:                   {true, false, false},
		`true`:                                               {true, true, true},
		`size(labels.role) > 4`:                              {false, true, false},
		`labels.exists(k, k == "site")`:                      {true, false, false},
		`labels.role + "-1" == host.name`:                    {true, true, false},
		`has(labels.role) && size(labels) == 2`:              {true, true, false},
	} {
		h, err := ParseHosts(text)
		require.NoError(t, err, text)
		for i, f := range people {
			assert.Equal(t, want[i], h.Match(f), "%s on %s", text, f.Name)
		}
	}
	for text, want := range map[string]string{
		`label.role == "gate"`:      "did you mean labels.role?",
		`observed.oss == "linux"`:   "did you mean observed.os?",
		`labels.role`:               "gives text",
		`labels.role == 3`:          "== does not go between text and int",
		`labels.role.matches("[")`:  "matches",
		`fields.lane == 3`:          "there is no fields.lane",
		`role == "gate"`:            "there is no role; did you mean labels.role?",
		`observed.freedisk == "10"`: "there is no observed.freedisk",
	} {
		_, err := ParseHosts(text)
		assert.ErrorContains(t, err, want, text)
	}
}

// FuzzHosts: the tree answers as cel-go does.
func FuzzHosts(f *testing.F) {
	for _, s := range []string{`labels.role == "gate"`, `!(labels.a in ["x"]) || host.name.endsWith("1")`,
		`has(labels.site) && observed.os != ""`, `labels["x.y"].contains("a")`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		h, err := ParseHosts(text)
		if err != nil || h.Tree == nil {
			return
		}
		c, err := hostChecker()
		require.NoError(t, err)
		k, err := c.Check(text, Bool)
		require.NoError(t, err)
		slow := &HostCondition{Text: text}
		slow.prog, err = c.env.Program(k.tree)
		require.NoError(t, err)
		for _, p := range people {
			require.Equal(t, slow.Match(p), h.Match(p), "%s on %s", text, p.Name)
		}
	})
}

func FuzzCheck(f *testing.F) {
	f.Add(`fields.lane == 3 && level >= WARN`)
	f.Add(`[1,2].exists(x, x > fields.lane)`)
	c, err := NewChecker(scope())
	require.NoError(f, err)
	f.Fuzz(func(_ *testing.T, text string) {
		if k, err := c.Check(text, Dyn); err == nil {
			k.Constant()
		}
	})
}
