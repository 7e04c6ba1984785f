package check

// Code is one thing that is checked. What, Why and Fix are for the page that explains it.
type Code struct {
	Name     string   `json:"code"`
	Severity Severity `json:"severity"`
	Fleet    bool     `json:"fleet"` // needs the hosts, so that a check of a folder alone does not make it
	What     string   `json:"what"`
	Why      string   `json:"why"`
	Fix      string   `json:"fix"`
}

// Codes are all checks, in the order of the documentation: reading, the catalogue alone, the fleet.
var Codes = []Code{
	{
		"syntax",
		Error,
		false,
		"A file is not YAML that can be read, or uses anchors, aliases or tags.",
		"A definition must say what it means where it stands. A value that begins with ! or # is taken by YAML for " +
			"something else.",
		"Quote the value, or mend the file at the line that is named.",
	},
	{
		"schema",
		Error,
		false,
		"A key has a value of the wrong kind, or something that must be there is missing.",
		"Numbers without a unit, texts in place of lists and empty values are the mistakes that work until somebody " +
			"reads them otherwise.",
		"Write what the message expects; sizes as 64MiB, durations as 30s.",
	},
	{
		"unknown-key",
		Error,
		false,
		"A key is not part of the language.",
		"A misspelt key that is passed over is a rule that is not there.",
		"Take the nearest known key, which the message names.",
	},
	{
		"unknown-kind",
		Error,
		false,
		"A document does not begin with a kind.",
		"Nobody knows what it is.",
		"Begin it with a kind and its name, such as source: gate-scans.",
	},
	{
		"not-yet",
		Error,
		false,
		"The language has it, and this version does not run it yet.",
		"It is refused, since a host would run without it.",
		"Leave it out for now.",
	},
	{
		"duplicate-name",
		Error,
		false,
		"Two definitions of one kind have one name.",
		"One of them would silently not count.",
		"Rename or remove one.",
	},
	{
		"format-invalid",
		Error,
		false,
		"A template, expression, layout or list of formats cannot be used.",
		"The format would read nothing on any host.",
		"Mend it at the place that is named.",
	},
	{
		"zone-unknown",
		Error,
		false,
		"A time zone is not a named one that is known.",
		"A fixed offset goes wrong at the clock change.",
		"Name the zone, such as Europe/Lisbon, or UTC.",
	},
	{
		"condition-invalid",
		Error,
		false,
		"A condition cannot be read, compares values of different types, or is not true or false.",
		"On the host it would be an error for every record, and never met.",
		"Compare values of one type; string(), int() and double() convert.",
	},
	{
		"condition-unknown-name",
		Error,
		false,
		"A condition or a step uses a field that is not there at that point.",
		"It would never be met: drops drop nothing, and records go elsewhere than everybody thinks.",
		"Take the nearest name, or declare the field in the format.",
	},
	{
		"dangling-reference",
		Error,
		false,
		"A definition names another that does not exist.",
		"The source could not run.",
		"Define it, or name one that exists.",
	},
	{
		"reference-unknown",
		Error,
		false,
		"A ${...} has a form that is not known.",
		"It would stay as it is written.",
		"Use ${setting.NAME}, ${host.name}, ${label.KEY}, ${observed.os} or, where it is allowed, ${secret.NAME}.",
	},
	{
		"reference-misplaced",
		Error,
		false,
		"A ${...} stands where none is read, or a secret where everybody would see it.",
		"The host would get the text as it is written, or a secret would be in the clear.",
		"Write the value out, or move the secret to where one is allowed.",
	},
	{
		"path-relative",
		Error,
		false,
		"A path to read is not absolute.",
		"What it means would depend on where the agent was started.",
		"Begin it with / or with a setting.",
	},
	{
		"pattern-too-wide",
		Error,
		false,
		"A pattern takes in every file of the host.",
		"It would read binaries, secrets and what the agent itself writes.",
		"Name the folder that the logs are in.",
	},
	{
		"zone-missing",
		Error,
		false,
		"A format reads times without a zone, and nobody names one.",
		"The records would show up in the future or the past.",
		"Add time: {zone: ...} to the format or the source.",
	},
	{
		"certificate-missing",
		Error,
		false,
		"A listener by TLS has no certificate, or one without its key.",
		"Nobody could connect to it.",
		"Let the service sign one with certificate: issued, or name secrets in certificate and key.",
	},
	{
		"recognise-without-senders",
		Error,
		false,
		"A source that does not listen asks for its format to be recognised.",
		"Formats are recognised for each sender, from its first messages; a file has none.",
		"Name a format. synaxis format guess proposes one.",
	},
	{
		"sample-failed",
		Error,
		false,
		"A sample of a format or a mask does not come out as it says.",
		"The definition does not do what its writer believed.",
		"Mend the definition or the sample.",
	},
	{
		"sample-private",
		Warning,
		false,
		"A sample of a format seems to hold private data.",
		"Definitions are kept for ever, in every later revision, and seen by many.",
		"Make up other data of the same shape.",
	},
	{
		"send-unreachable",
		Error,
		false,
		"An entry of send can never be reached, or a step drops everything.",
		"Somebody believes that records go there.",
		"Mend the condition, or remove the entry.",
	},
	{
		"route-open",
		Error,
		false,
		"Every entry of send has a when, and there is no otherwise.",
		"What no entry took would vanish.",
		"Add {otherwise: DESTINATION}.",
	},
	{
		"takes-mismatch",
		Error,
		false,
		"A source sends a destination something else than its table takes.",
		"The receiver would refuse the records, or put nothing in the column.",
		"Rename, set or convert the field in a step.",
	},
	{
		"secret-in-clear",
		Error,
		false,
		"A password, token or key stands in a definition.",
		"Everybody who can read the catalogue has it, in this and every later revision.",
		"Keep it with synaxis secret set, refer to it as ${secret.NAME}, and change it where it is checked.",
	},
	{
		"secret-without-tls",
		Error,
		false,
		"A secret would be sent without TLS, off loopback.",
		"Anybody on the way could read it.",
		"Use https or tls.",
	},
	{
		"verification-off",
		Warning,
		false,
		"A destination's certificate is not verified.",
		"Whoever answers at its address gets the records and the credentials.",
		"Give the authority under tls.ca, and remove verify: false.",
	},
	{
		"guard-covers-nothing",
		Warning,
		false,
		"A guard chooses no source.",
		"Its writer believes that something is protected.",
		"Label the sources, or mend the guard's labels.",
	},
	{
		"mask-slow",
		Warning,
		false,
		"A mask is slow to search for.",
		"Masks run over every record; one that cannot skip lines decides how much a host can read.",
		"Put something fixed into the expression, or use near.",
	},
	{
		"was-in-use",
		Error,
		false,
		"A source says that it was another, which is still there.",
		"Both would claim the same positions.",
		"Remove the old one, or leave was out.",
	},
	{
		"rename-without-was",
		Warning,
		false,
		"A source goes, and a new one reads the same files.",
		"Without was the positions are lost: everything is read again, or what came meanwhile is not.",
		"Add was: with the old name.",
	},
	{
		"send-copies",
		Note,
		false,
		"A source has an entry of send with a when, and one without.",
		"An entry without a when gets every record, also those that another entry takes: they arrive at both.",
		"Nothing, where both are meant to have them. Where the entry is for the rest alone, write otherwise in its " +
			"place.",
	},
	{
		"destination-unused",
		Note,
		false,
		"No source sends to a destination.",
		"It may be left over, or a route is missing.",
		"Send something to it, or remove it.",
	},

	{
		"no-hosts",
		Warning,
		true,
		"A choice of hosts finds nobody.",
		"The definition runs nowhere.",
		"Take the nearest label, which the message names, or label a host.",
	},
	{
		"wave-empty",
		Warning,
		true,
		"The condition of a wave of a plan meets no host.",
		"The wave is passed over, and what it should prove is not proven.",
		"Take the nearest label, which the message names, or label hosts.",
	},
	{
		"value-unknown",
		Warning,
		true,
		"A choice of hosts names a label or a value that no host has, among others that some have.",
		"The hosts that are meant are passed over, unseen.",
		"Take the nearest value, which the message names, or label the hosts.",
	},
	{
		"setting-undefined",
		Error,
		true,
		"A setting, label or observed value is not defined on some chosen host.",
		"The source would be left out there.",
		"Set it on the hosts, or by a settings definition for them.",
	},
	{
		"secret-missing",
		Error,
		true,
		"A secret does not exist.",
		"What needs it could not run.",
		"Set it with synaxis secret set NAME.",
	},
	{
		"settings-disagree",
		Error,
		true,
		"Two settings definitions of equal rank give one host different values.",
		"Which one counts would be chance.",
		"Give one a higher rank, or make their hosts disjoint.",
	},
	{
		"agents-disagree",
		Error,
		true,
		"Two agents definitions are for the same host.",
		"Which ceilings hold would be chance.",
		"Make their hosts disjoint.",
	},
	{
		"label-outside",
		Warning,
		true,
		"A label has a value outside its vocabulary.",
		"A misspelt site is a host that no source finds.",
		"Take the nearest value, or add it to the label-key.",
	},
	{
		"label-missing",
		Warning,
		true,
		"A host does not have a label that every host must have.",
		"Choices by that label pass it over.",
		"Label it.",
	},
	{
		"file-read-twice",
		Warning,
		true,
		"Two sources read the same file on a host.",
		"Each of its records arrives twice.",
		"Except the file in one of them.",
	},
	{
		"reads-own-output",
		Error,
		true,
		"A source reads a file that a destination writes on the same host.",
		"Every record would come again for ever.",
		"Except the file, or write it elsewhere.",
	},
	{
		"agent-folder",
		Error,
		true,
		"A source reads, or a destination writes, in the folder of the agent itself.",
		"Its credential and the secrets of its config are there; the agent refuses the whole config.",
		"Name another folder.",
	},
	{
		"port-taken",
		Error,
		true,
		"A port that a source wants is wanted by another source, or bound by another program, on the same host.",
		"The listener could not start.",
		"Give one of them another port.",
	},
	{
		"port-needs-right",
		Error,
		true,
		"A source listens below port 1024 where the agent may not.",
		"The listener could not start.",
		"Run the join script again with --low-ports, or listen from 1024 on and redirect.",
	},
	{
		"agent-lacks",
		Error,
		true,
		"The agents of some hosts cannot run something that a definition needs.",
		"They would refuse their whole config.",
		"Update the agents, or leave it out.",
	},
	{
		"guard-not-covered",
		Error,
		true,
		"A source that a guard protects runs on hosts whose agents cannot mask.",
		"Private data would leave those hosts unmasked.",
		"Update the agents, or take the source off them.",
	},
	{
		"buffer-over-disk",
		Warning,
		true,
		"The disk buffers of a host together are larger than what is free.",
		"The disk would be full before the buffers are.",
		"Make the buffers smaller, or give the host more room.",
	},
	{
		"budget-exceeded",
		Warning,
		true,
		"A destination would get more than its budget, by what its sources really read.",
		"The bill, or the receiver, will say so later.",
		"Drop or sample what nobody needs, or raise the budget.",
	},
}

var severities = func() map[string]Severity {
	m := map[string]Severity{}
	for _, c := range Codes {
		m[c.Name] = c.Severity
	}
	return m
}()

// NeedFleet lists, for people, the checks that cannot be made without the hosts.
func NeedFleet() []string {
	var out []string
	for _, c := range Codes {
		if c.Fleet {
			out = append(out, c.Name+": "+c.What)
		}
	}
	return out
}
