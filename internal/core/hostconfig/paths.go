package hostconfig

import "strings"

// AgentFolder is where the join script has an agent keep its credential, config, secrets and positions.
const AgentFolder = "/var/lib/synaxis-agent"

// Inside tells whether a path is a folder or lies in it. Both are clean, and without links.
func Inside(path, dir string) bool {
	return dir != "" && (path == dir || dir == "/" || strings.HasPrefix(path, dir+"/"))
}
