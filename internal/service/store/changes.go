package store

import "synaxis/internal/core/rollout"

// What commits change.
type (
	// HostPut is a host as it is now.
	HostPut struct{ Host }
	// HostReplaced is a retired host whose name another one takes.
	HostReplaced struct{ Host }
	// TokenPut is a join token as it is now, without its uses.
	TokenPut struct{ JoinToken }
	// CredentialOffered is a new credential. One that the agent was offered before, and never used, has gone.
	CredentialOffered struct{ Credential }
	// CredentialUsed is a credential after its first use. The host's earlier ones have ended.
	CredentialUsed struct{ Credential }
	// CredentialsEnded says that a host has no credential any more.
	CredentialsEnded struct{ Host string }
	// NewcomerPut is a newcomer as it is now.
	NewcomerPut struct{ Newcomer }
	// NewcomerRemoved says that a newcomer has joined.
	NewcomerRemoved struct{ ID string }
	// Assigned is what a host should run from now on.
	Assigned struct{ Assignment }
	// Unassigned says that a host should run nothing.
	Unassigned struct{ Host string }
	// RolloutMoved is how a rollout moved on.
	RolloutMoved struct{ rollout.Delta }
	// InForce is the revision whose rollout was completed last.
	InForce struct{ Revision int }
	// SecretChanged is a secret with its version, which is 0 when it was removed.
	SecretChanged struct {
		Name    string
		Version int
	}
)

func (HostPut) changed()           {}
func (HostReplaced) changed()      {}
func (TokenPut) changed()          {}
func (CredentialOffered) changed() {}
func (CredentialUsed) changed()    {}
func (CredentialsEnded) changed()  {}
func (NewcomerPut) changed()       {}
func (NewcomerRemoved) changed()   {}
func (Assigned) changed()          {}
func (Unassigned) changed()        {}
func (RolloutMoved) changed()      {}
func (InForce) changed()           {}
func (SecretChanged) changed()     {}
