package contract

// Right is something that somebody may do.
type Right string

// The rights. Today a person who has signed in has all of them, but for MayReadHosts where the service was started so.
const (
	MayLook      Right = "look"       // see what the desk has
	MayTry       Right = "try"        // let the desk compute on what is sent along; nothing is kept
	MayChange    Right = "change"     // change what the desk has, which is in the audit
	MaySetSecret Right = "set-secret" // set the value of a secret: of any, or of the one that a token is for
	MayPeek      Right = "peek"       // look at records as they come, without private data
	MayReadHosts Right = "read-hosts" // see lines of logs on hosts, before anything is masked
	MaySession   Right = "session"    // be signed in, and sign out
)

// rights tells what each operation of the contract needs: all that is listed. CreateSession needs nothing: it is the
// way in.
var rights = map[string][]Right{
	"CreateSession":    {},
	"GetSession":       {MaySession},
	"DeleteSession":    {MaySession},
	"CreateSignInLink": {MaySession},

	"GetStatus": {MayLook}, "ListAudit": {MayLook}, "GetLanguage": {MayLook},
	"ListHosts": {
		MayLook,
	}, "GetHost": {MayLook}, "GetHostConfig": {MayLook}, "ExplainHost": {MayLook}, "ExportInventory": {MayLook},
	"ListJoinTokens": {MayLook}, "ListNewcomers": {MayLook}, "ListSecrets": {MayLook},
	"ListDefinitions": {MayLook}, "GetDefinition": {MayLook}, "ExportCatalogue": {MayLook}, "GetCoverage": {MayLook},
	"ListDrafts": {
		MayLook,
	}, "GetDraft": {MayLook}, "ListDraftDefinitions": {MayLook}, "GetDraftDefinition": {MayLook},
	"ListConflicts": {MayLook},
	"CheckDraft":    {MayLook}, "DiffDraft": {MayLook},
	"ListRevisions": {MayLook}, "GetRevision": {MayLook}, "DiffRevisions": {MayLook}, "ListRollouts": {MayLook},
	"GetRollout": {MayLook},

	"GetPreflight": {MayLook}, "ListTrials": {MayLook}, "GetTrial": {MayLook}, "StartTrial": {MayChange},
	"EndTrial": {MayChange}, "RunPreflight": {MayChange},
	"GetBooks": {MayLook}, "GetNumbers": {MayLook}, "ExplainNumbers": {MayLook}, "GetUsual": {MayLook},
	"ListCauses": {MayLook}, "ListNotices": {MayLook},
	"ListMaintenance": {MayLook}, "AcknowledgeNotice": {MayChange}, "StartMaintenance": {MayChange},
	"EndMaintenance": {MayChange}, "TryNotice": {MayTry}, "ListDestinations": {MayLook}, "GetDestination": {MayLook}, "ListRejects": {MayLook},
	"ListRejectRecords": {MayLook}, "ResendRejects": {MayChange}, "DiscardRejects": {MayChange},

	"TryDefinition": {
		MayTry,
	}, "GuessLog": {MayTry}, "ReadText": {MayTry}, "TryLog": {MayTry}, "ScanLog": {MayTry}, "CarveField": {MayTry},
	"SpliceText": {MayTry},

	"CreateJoinToken": {
		MayChange,
	}, "RevokeJoinToken": {MayChange}, "ApproveNewcomer": {MayChange}, "DenyNewcomer": {MayChange},
	"EditHostLabels": {
		MayChange,
	}, "EditHostSettings": {MayChange}, "RetireHost": {MayChange}, "EditHosts": {MayChange},
	"ImportInventory": {MayChange},
	"LoadDraft": {
		MayChange,
	}, "DiscardDraft": {MayChange}, "PutDraftDefinition": {MayChange}, "RemoveDraftDefinition": {MayChange},
	"RevertDraftDefinition": {MayChange}, "PublishDraft": {MayChange}, "StartRollout": {MayChange},
	"ActOnRollout": {MayChange}, "TakeBackRollout": {MayChange}, "LetHostGo": {MayChange},
	"PreviewRollout": {MayTry}, "GetHostHistory": {MayLook},
	"RemoveSecret": {MayChange}, "GrantSecret": {MayChange}, "RevokeGrant": {MayChange},

	"SetSecret": {MaySetSecret},

	"Peek": {MayPeek}, "PeekUnmasked": {MayReadHosts}, "Probe": {MayChange}, "ListUnclaimed": {MayPeek},
	"ListSenders": {MayPeek}, "GetSenderAuthority": {MayLook}, "DefineSenders": {MayChange},
	"GetFlow": {MayLook}, "GetCost": {MayLook},

	"ReadHostLines": {MayReadHosts}, "ListUncollected": {MayReadHosts}, "DraftSource": {MayReadHosts, MayChange},
}

// RightsFor tells what an operation needs, by its name in the server; ok is false for one that is not in the table.
func RightsFor(operation string) (needs []Right, ok bool) {
	needs, ok = rights[operation]
	return needs, ok
}
