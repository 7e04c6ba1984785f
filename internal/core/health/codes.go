package health

// Code is why something is in a state other than healthy. Codes are words of the API: once given they stay.
type Code string

// Codes that the service finds.
const (
	Retired Code = "retired" // the host was taken out of the fleet
	// the host is listed and no agent has joined under its name: then agent-away, or no-config
	NotJoined     Code = "not-joined"
	ComingBack    Code = "coming-back"    // the service restarted and its agents have not all come back
	AgentAway     Code = "agent-away"     // the agent is not connected
	ConfigRefused Code = "config-refused" // the agent cannot run its config and keeps the one before
	NoConfig      Code = "no-config"      // no revision is in force
	ConfigDrifted Code = "config-drifted" // the agent runs another config than it is assigned
	// the config was assigned a moment ago: then healthy, config-refused or config-drifted
	ConfigOnItsWay    Code = "config-on-its-way"
	SourceLeftOut     Code = "source-left-out"     // a value is missing on the host that a source needs
	NoReport          Code = "no-report"           // the agent runs the source and has not said how it is
	RecordsRefused    Code = "records-refused"     // a destination refused records for good
	ReadsTooFew       Code = "reads-too-few"       // the format could not read too many records
	StampsWithoutZone Code = "stamps-without-zone" // times say no zone, and none is given
	FallsBehind       Code = "falls-behind"        // the oldest record that waits is too old
	NoRecords         Code = "no-records"          // nothing has been read since it began
	FieldSeldomFilled Code = "field-seldom-filled" // a field is in fewer records than its expectation says
	Silent            Code = "silent"              // a record was due by its expectation, and none came
	TooFewRecords     Code = "too-few-records"     // fewer came in an hour than its expectation says
	ZoneWrong         Code = "zone-wrong"          // times are off by a whole number of quarter hours
	TimesAhead        Code = "times-ahead"         // times lie in the future
	TimesBehind       Code = "times-behind"        // times lie long before the records were written
	AgentOld          Code = "agent-old"           // the agent cannot run all that this service can ask of one
	ClockOff          Code = "clock-off"           // the clock of the host differs from that of the service
	// the agent is away, and so long an absence is normal for it: then healthy, or agent-away
	AwayAsUsual Code = "away-as-usual"
)

// Codes that agents report: of a source, of a destination, or of their own state folder.
const (
	// an agent says that something is wrong, and with no code of these
	Unhealthy             Code = "unhealthy"
	PathMatchesNothing    Code = "path-matches-nothing"   // no file is there that the patterns match
	FilesGone             Code = "files-gone"             // files were read, and none is there any more
	NotReadable           Code = "not-readable"           // a file or folder cannot be read
	TooFewDescriptors     Code = "too-few-descriptors"    // more files match than may be open at once
	StateNotWritable      Code = "state-not-writable"     // positions cannot be written
	RejectsUnwritable     Code = "rejects-unwritable"     // records that were refused cannot be kept
	DestinationUnwritable Code = "destination-unwritable" // the file that a destination writes cannot be written
	// the destination that the reason names takes no records; the destination has one of the codes below
	HeldBy            Code = "held-by"
	ConnectionRefused Code = "connection-refused" // nothing listens at the address
	NameNotFound      Code = "name-not-found"     // the name of the address is not known
	NotReachable      Code = "not-reachable"      // there is no way to the address
	TLSFailed         Code = "tls-failed"         // TLS cannot be agreed on
	NoAnswer          Code = "no-answer"          // the connection stands and no answer comes
	LoginRefused      Code = "login-refused"      // 401 or 403
	WrongPath         Code = "wrong-path"         // 404 or 405
	ReceiverBusy      Code = "receiver-busy"      // 429
	ReceiverFailing   Code = "receiver-failing"   // 5xx
	RefusesEverything Code = "refuses-everything" // records are refused one after the other, and none is taken
	BufferFull        Code = "buffer-full"        // the buffer on disk is full, and reading waits
	BufferFilling     Code = "buffer-filling"     // the buffer on disk will be full soon
	BufferUnwritable  Code = "buffer-unwritable"  // the buffer on disk cannot be written
	RecordsDiscarded  Code = "records-discarded"  // records were given up, since the buffer was full or damaged
	NotVerified       Code = "not-verified"       // the destination's certificate is not verified
	LeavingConfig     Code = "leaving"            // it left the config, and what is left is still delivered
	// a certificate by which it is reached expires soon
	CertificateExpiring Code = "certificate-expiring"
	CommandFailing      Code = "command-failing" // a program that is run cannot be started, or ends with an error
	// a program goes well and says something on standard error
	CommandComplains Code = "command-complains"
	// the port of a listener cannot be bound, or its certificate cannot be used
	CannotListen   Code = "cannot-listen"
	MessagesMissed Code = "messages-missed" // messages came faster than they could be taken, and are lost
	SenderSilent   Code = "sender-silent"   // a sender was due by its expectation, and nothing came
	FilesLost      Code = "files-lost"      // deleted files were let go before they were read
)

// todo says what to do about a code that agents report.
var todo = map[Code]string{
	Unhealthy:          "look at what the agent says, and at its own log",
	FilesGone:          "look whether the program that wrote them still runs, or writes elsewhere now",
	PathMatchesNothing: "check the path on the host, or whether the program that writes it is there",
	NotReadable:        "let the agent's user read the file and its folder, for instance by its group",
	TooFewDescriptors: "raise LimitNOFILE in the agent's unit, or take fewer files; nothing is lost, files are " +
		"read in turns",
	StateNotWritable: "make room on the disk of the agent's state folder, or let its user write there; until " +
		"then a restart sends records again",
	RejectsUnwritable: "make room on the disk of the agent's state folder; nothing is lost, records wait",
	DestinationUnwritable: "let the agent's user write there, make room, or choose another path; nothing is lost, " +
		"records wait",
	HeldBy: "look at the destination: it does not take records now; nothing is lost, records wait on " +
		"the host",
	ConnectionRefused: "nothing listens at that address: start the receiver, or correct the port; nothing is " +
		"lost, records wait",
	NameNotFound: "correct the name in the destination's address, or the name service of the host; nothing " +
		"is lost, records wait",
	NotReachable: "look at the network between the host and the destination; nothing is lost, records wait",
	TLSFailed: "look at the receiver's certificate: is it for this name, is it still valid, does the " +
		"host trust its authority; is it https at all",
	NoAnswer: "look at the receiver: it takes the connection and does not answer, or a firewall drops " +
		"what is sent; nothing is lost, records wait",
	LoginRefused: "look at the credentials of the destination and at their right to write; nothing is " +
		"lost, records wait",
	WrongPath:       "correct the path in the destination's address; nothing is lost, records wait",
	ReceiverBusy:    "the receiver asks to wait: give it room, or send less; nothing is lost, records wait",
	ReceiverFailing: "look into the receiver's own log; nothing is lost, records wait",
	RefusesEverything: "what it answers says why: the path, the form of the records or a quota; nothing is " +
		"rejected and nothing is lost, records wait",
	BufferFull: "look at the destination: it takes less than is read. Give its buffer more room, or let it give up " +
		"old records with at-limit: discard-oldest; nothing is lost, reading waits",
	BufferFilling: "look at the destination: it takes less than is read; give its buffer more room before it is full",
	BufferUnwritable: "make room on the disk of the agent's state folder, or let its user write there; nothing is " +
		"lost, reading waits",
	RecordsDiscarded: "records are gone. Give the buffer of the destination more room, or let reading wait with " +
		"at-limit: pause",
	NotVerified: "give the destination's authority with tls: {ca: \"${secret.NAME}\"} and remove verify: false: " +
		"whoever answers at its address gets the records",
	CertificateExpiring: "give the receiver, or the destination, a new certificate before that day: nothing is delivered " +
		"to one that has expired; records then wait",
	LeavingConfig: "nothing: it ends by itself when all is delivered, or when its drain time is over",
	Silent:        "look whether what writes it runs; if so much silence is normal, say so with expect in the source",
	CommandComplains: "look at what it says; where that is no matter, say standard-error: ignore in the command of the " +
		"source",
	CommandFailing: "run it on the host as the agent's user; what it says is above, and it is run again by itself",
	CannotListen: "stop the program that holds the port, or take another port: senders are reached again by reached-at, " +
		"or told the new one",
	MessagesMissed: "let senders come over TCP, which waits; or raise net.core.rmem_max on the host, or spread the senders " +
		"over several listeners",
	SenderSilent: "look whether the device runs and still sends here: synaxis sender list; if so much silence is normal, say " +
		"so with expect of the sender",
	FilesLost: "keep rotated files longer, or give the destination's buffer more room: files were deleted faster " +
		"than they could be read",
}

// Todo says what to do about a code that agents report, or "".
func Todo(code Code) string { return todo[code] }

// Reported tells whether agents report a code.
func Reported(code Code) bool { _, ok := todo[code]; return ok }

// Codes are all reasons.
func Codes() []Code {
	return []Code{
		Retired, NotJoined, ComingBack, AgentAway, ConfigRefused,
		NoConfig, ConfigDrifted, ConfigOnItsWay, SourceLeftOut, NoReport,
		RecordsRefused, ReadsTooFew, StampsWithoutZone, FallsBehind, NoRecords,
		Silent, TooFewRecords, ZoneWrong, TimesAhead, TimesBehind,
		ClockOff, AwayAsUsual, Unhealthy, PathMatchesNothing, FilesGone,
		NotReadable, TooFewDescriptors, StateNotWritable, RejectsUnwritable, DestinationUnwritable,
		HeldBy, ConnectionRefused, NameNotFound, NotReachable, TLSFailed,
		NoAnswer, LoginRefused, WrongPath, ReceiverBusy, ReceiverFailing,
		RefusesEverything, BufferFull, BufferFilling, BufferUnwritable, RecordsDiscarded,
		NotVerified, LeavingConfig, FilesLost, CertificateExpiring, AgentOld, FieldSeldomFilled, CannotListen,
		CommandFailing, CommandComplains,
		MessagesMissed, SenderSilent,
	}
}
