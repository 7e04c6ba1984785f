#!/bin/sh
# Joins this host to a Synaxis service: fetches the agent, checks it, installs it, makes a systemd unit and starts it.
# Run it with --help to see what it takes. It comes from the service, which has filled in the next lines.
set -eu
SERVICE='@SERVICE@'
PIN='@PIN@'
SUM_amd64='@SUM_amd64@'
SUM_arm64='@SUM_arm64@'

BIN=/usr/local/bin/synaxis-agent
LIB=/usr/local/lib/synaxis-agent
STATE='@STATE@'
UNIT=/etc/systemd/system/synaxis-agent.service
ACCOUNT=synaxis-agent

NAME= LOW=no PRINT=no UNINSTALL=no PURGE=no CPU= MEMORY= WHY= WRITES= TMP_WHY= TOKEN_FILE=

help() {
	cat <<-EOF
	sh join.sh [--name NAME] [--low-ports] [--print]
	sh join.sh --uninstall [--purge]

	  --name NAME   the name of this host in the fleet (default: $(uname -n))
	  --low-ports   let the agent listen below port 1024; done without asking where a source of this host needs it
	  --print       only tell what would be done
	  --uninstall   stop the agent and remove it; what it keeps in $STATE stays
	  --purge       with --uninstall: remove that too, with the positions and the credential, and the account

	The join token is read from SYNAXIS_JOIN_TOKEN, so that no command line shows it.
	EOF
}

die() { echo "join.sh: $*" >&2; exit 1; }
say() { echo "  $*"; }
# run does something, or with --print only tells it.
run() { if [ "$PRINT" = yes ]; then say "$*"; else "$@"; fi; }
have() { command -v "$1" >/dev/null 2>&1; }
systemd() { [ -d /run/systemd/system ]; }

while [ $# -gt 0 ]; do
	case $1 in
	--name) [ $# -gt 1 ] || die "--name needs a name"; NAME=$2; shift ;;
	--low-ports) LOW=asked ;;
	--print) PRINT=yes ;;
	--uninstall) UNINSTALL=yes ;;
	--purge) PURGE=yes ;;
	--token-file) [ $# -gt 1 ] || die "--token-file needs a file"; TOKEN_FILE=$2; shift ;; # from itself, across sudo
	--help | -h) help; exit 0 ;;
	*) die "$1 is not known; --help tells what is" ;;
	esac
	shift
done

if [ "$(id -u)" != 0 ] && [ "$PRINT" = no ]; then
	have sudo || die "this needs root: it makes an account, a unit and files below /usr/local"
	TOKEN_FILE=$(mktemp) # others cannot read it, as they could a command line
	printf '%s\n' "${SYNAXIS_JOIN_TOKEN:-}" >"$TOKEN_FILE"
	unset SYNAXIS_JOIN_TOKEN
	set -- sudo sh "$0" --token-file "$TOKEN_FILE"
	[ -z "$NAME" ] || set -- "$@" --name "$NAME"
	[ "$LOW" = no ] || set -- "$@" --low-ports
	[ "$UNINSTALL" = no ] || set -- "$@" --uninstall
	[ "$PURGE" = no ] || set -- "$@" --purge
	code=0
	"$@" || code=$?
	rm -f "$TOKEN_FILE" # also when sudo refused
	exit $code
fi
if [ -n "$TOKEN_FILE" ]; then
	SYNAXIS_JOIN_TOKEN=$(cat "$TOKEN_FILE")
	rm -f "$TOKEN_FILE"
fi

if [ "$UNINSTALL" = yes ]; then
	[ "$PRINT" = no ] || echo "To remove the agent from this host:"
	if systemd && [ -e "$UNIT" ]; then
		run systemctl disable --now synaxis-agent.service
	fi
	run rm -f "$UNIT" "$BIN"
	run rm -rf "$LIB"
	if systemd; then run systemctl daemon-reload; fi
	if [ "$PURGE" = yes ]; then
		run rm -rf "$STATE"
		if id "$ACCOUNT" >/dev/null 2>&1; then
			if have userdel; then run userdel "$ACCOUNT"; else run deluser "$ACCOUNT"; fi
		fi
	fi
	[ "$PRINT" = yes ] || echo "The agent is removed. To take this host out of the fleet too: synaxis host retire ${NAME:-$(uname -n)}"
	exit 0
fi

[ "$(uname -s)" = Linux ] || die "the agent runs on Linux; this is $(uname -s)"
case $(uname -m) in
x86_64 | amd64) ARCH=amd64 SUM=$SUM_amd64 ;;
aarch64 | arm64) ARCH=arm64 SUM=$SUM_arm64 ;;
*) die "the service has agents for amd64 and arm64; this is $(uname -m)" ;;
esac
[ -n "$SUM" ] || die "the service at $SERVICE has no agent for linux/$ARCH; build it there with: make build"
JOINED=no
[ -e "$STATE/identity.json" ] && grep -q '"credential"' "$STATE/identity.json" && JOINED=yes
[ -n "${SYNAXIS_JOIN_TOKEN:-}" ] || [ $JOINED = yes ] || die "no join token: make one with synaxis join-token create, and give it in SYNAXIS_JOIN_TOKEN"
have sha256sum || die "sha256sum is missing; without it what is fetched cannot be checked"

WORK=$(mktemp -d)
trap 'rm -rf "$WORK"' EXIT INT TERM
echo "Fetching the agent for linux/$ARCH from $SERVICE"
# The certificate is not looked at here: the sum of the agent stands above, and the agent itself checks the fingerprint.
if have curl; then
	curl -fsSk -o "$WORK/synaxis-agent" "$SERVICE/agents/linux-$ARCH/synaxis-agent" || die "the agent could not be fetched"
elif have wget; then
	wget -q --no-check-certificate -O "$WORK/synaxis-agent" "$SERVICE/agents/linux-$ARCH/synaxis-agent" || die "the agent could not be fetched"
else
	die "neither curl nor wget is here"
fi
echo "$SUM  $WORK/synaxis-agent" | sha256sum -c - >/dev/null 2>&1 || die "the agent that came is not the one that this script was made for (SHA-256); nothing was installed"
chmod 0755 "$WORK/synaxis-agent"

# What the desk knows of this host: ceilings, and whether a source of it needs a low port.
set -- --service "$SERVICE"
[ -z "$PIN" ] || set -- "$@" --pin "$PIN"
[ -z "$NAME" ] || set -- "$@" --name "$NAME"
if [ -n "${SYNAXIS_JOIN_TOKEN:-}" ]; then
	export SYNAXIS_JOIN_TOKEN
	"$WORK/synaxis-agent" needs "$@" >"$WORK/needs" || die "the desk could not be asked what this host needs; nothing was installed"
	while IFS='=' read -r key value; do
		case $key in
		cpu) CPU=$value ;;
		memory) MEMORY=$value ;;
		low-ports) WHY=$value; [ "$LOW" = asked ] || LOW=needed ;;
		reads-tmp) TMP_WHY=$value ;;
		writes)
			case $value in
			*[!A-Za-z0-9/._@:+-]* | [!/]* | */../* | */.. | "$STATE" | "$STATE"/*) die "a file destination writes into $value, which a unit cannot name; choose another folder" ;;
			esac
			WRITES="$WRITES${WRITES:+ }-$value"
			;;
		esac
	done <"$WORK/needs"
fi

GROUPS_=
for g in adm systemd-journal; do
	if grep -q "^$g:" /etc/group; then GROUPS_="$GROUPS_${GROUPS_:+ }$g"; fi
done
COMMAND="$BIN"
for word in "$@"; do COMMAND="$COMMAND $word"; done
COMMAND="$COMMAND --state $STATE --join-token-file $STATE/join-token"

unit() {
	cat <<-EOF
	[Unit]
	Description=Synaxis agent: collects the logs of this host and delivers them
	After=network-online.target
	Wants=network-online.target

	[Service]
	ExecStart=$COMMAND
	User=$ACCOUNT
	Group=$ACCOUNT
	EOF
	[ -z "$GROUPS_" ] || echo "SupplementaryGroups=$GROUPS_"
	cat <<-EOF
	StateDirectory=synaxis-agent
	StateDirectoryMode=0700
	UMask=0077
	Restart=always
	RestartSec=5
	TimeoutStopSec=20
	LimitNOFILE=65536
	NoNewPrivileges=yes
	ProtectSystem=strict
	ProtectHome=read-only
	ProtectKernelTunables=yes
	ProtectKernelModules=yes
	ProtectKernelLogs=yes
	ProtectControlGroups=yes
	ProtectClock=yes
	PrivateDevices=yes
	RestrictSUIDSGID=yes
	RestrictRealtime=yes
	RestrictNamespaces=yes
	RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK
	SystemCallArchitectures=native
	SystemCallFilter=@system-service
	SystemCallErrorNumber=EPERM
	LockPersonality=yes
	EOF
	[ -z "$WRITES" ] || echo "ReadWritePaths=$WRITES"
	[ -n "$TMP_WHY" ] || echo "PrivateTmp=yes"
	if [ "$LOW" = no ]; then
		echo "CapabilityBoundingSet="
	else
		echo "AmbientCapabilities=CAP_NET_BIND_SERVICE"
		echo "CapabilityBoundingSet=CAP_NET_BIND_SERVICE"
	fi
	[ -z "$CPU" ] || echo "CPUQuota=$CPU"
	[ -z "$MEMORY" ] || echo "MemoryMax=$MEMORY"
	printf '\n[Install]\nWantedBy=multi-user.target\n'
}

if [ "$PRINT" = yes ]; then echo "This would be done (--print), and nothing was:"; fi
if ! id "$ACCOUNT" >/dev/null 2>&1; then
	if have useradd; then
		run useradd --system --user-group --home-dir "$STATE" --no-create-home --shell /usr/sbin/nologin "$ACCOUNT"
	else
		run adduser -S -D -H -h "$STATE" -s /sbin/nologin "$ACCOUNT"
	fi
fi
case $LOW in
asked) say "the agent may listen below port 1024: --low-ports" ;;
needed) say "the agent may listen below port 1024: $WHY" ;;
esac
[ -z "$WRITES" ] || say "file destinations may write into:$(printf ' %s' "$WRITES" | sed 's/ -/ /g')"
[ -z "$TMP_WHY" ] || say "the agent sees /tmp: $TMP_WHY"
[ -z "$CPU$MEMORY" ] || say "ceilings of agents at the desk: ${CPU:+CPU $CPU}${CPU:+${MEMORY:+, }}${MEMORY:+memory $MEMORY}"
if systemd && [ -e "$UNIT" ]; then run systemctl stop synaxis-agent.service; fi
run install -m 0755 "$WORK/synaxis-agent" "$BIN"
run install -d -m 0755 "$LIB"
run install -m 0755 "$0" "$LIB/join.sh"
run install -d -m 0700 -o "$ACCOUNT" -g "$ACCOUNT" "$STATE"
if [ -n "${SYNAXIS_JOIN_TOKEN:-}" ] && [ $JOINED = no ]; then
	if [ "$PRINT" = yes ]; then
		say "the join token into $STATE/join-token, for $ACCOUNT only; the agent removes it once it has joined"
	else
		# The folder is the agent's: what root wrote there could go wherever a link of the agent leads. So the agent's account writes.
		printf '%s\n' "$SYNAXIS_JOIN_TOKEN" | su -s /bin/sh "$ACCOUNT" -c "umask 077; rm -f '$STATE/join-token'; cat >'$STATE/join-token'"
	fi
fi

if ! systemd; then
	echo
	echo "systemd does not run here, so no unit was made. Let your own supervisor run this as $ACCOUNT, and again when it ends:"
	echo
	echo "  $COMMAND"
	echo
	[ "$LOW" = no ] || echo "To let it listen below port 1024: setcap cap_net_bind_service=+ep $BIN"
	exit 0
fi
if [ "$PRINT" = yes ]; then
	say "$UNIT:"
	unit | sed 's/^/    /'
else
	unit >"$UNIT"
	chmod 0644 "$UNIT"
fi
run systemctl daemon-reload
run systemctl enable synaxis-agent.service
run systemctl restart synaxis-agent.service
[ "$PRINT" = no ] || exit 0

echo "The agent runs. Waiting for it to join, for up to 60 s"
tries=0
until grep -q '"credential"' "$STATE/identity.json" 2>/dev/null; do
	tries=$((tries + 1))
	if [ $tries -gt 60 ]; then
		echo "It has not joined yet and goes on trying. What it says: journalctl -u synaxis-agent" >&2
		exit 1
	fi
	sleep 1
done
echo "Joined as ${NAME:-$(uname -n)}. To remove it: sudo sh $LIB/join.sh --uninstall"
