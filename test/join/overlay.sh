#!/bin/sh
# Runs the join line for real on a host made for it: a root of its own laid over this machine's, with its own processes,
# network and accounts. It is called as: unshare --mount --pid --net --fork sh overlay.sh BIN
# BIN is the folder of the built programs. What it prints is read by the test.
set -eu
BIN=$1
W=$(mktemp -d)
mount -t tmpfs tmpfs "$W"
mkdir "$W/upper" "$W/work" "$W/root"
mount -t overlay overlay -o "lowerdir=/,upperdir=$W/upper,workdir=$W/work" "$W/root"
R=$W/root
mount -t proc proc "$R/proc"
mount --rbind /dev "$R/dev"
mount -t tmpfs tmpfs "$R/run"
mount -t tmpfs tmpfs "$R/tmp"
mkdir "$R/tmp/bin"
cp "$(dirname "$0")/catalogue.yaml" "$R/"
mount --bind "$BIN" "$R/tmp/bin"
ip link set lo up
exec chroot "$R" sh -eu <<'EOF'
cd /tmp
bin/synaxisd --data /tmp/data --listen 127.0.0.1:7800 --tls-auto 2>service.log &
n=0
until grep -q msg=listening service.log; do n=$((n + 1)); [ $n -lt 200 ] || { cat service.log; exit 1; }; sleep 0.1; done
export SYNAXIS_URL=https://127.0.0.1:7800 SYNAXIS_TOKEN=$(cat data/admin.token) SYNAXIS_PIN=$(grep -o 'sha256:[0-9a-f]*' service.log | head -1)
bin/synaxis draft load /catalogue.yaml >/dev/null
bin/synaxis draft publish 1 >/dev/null
line=$(bin/synaxis join-token create --label role=relay -o json | sed -n 's/.*"command": "\(.*\)",\{0,1\}$/\1/p' | sed 's/\\"/"/g')
echo "LINE $line"
echo "== print"
sh -c "$line --print --name relay-1"
[ ! -e /usr/local/bin/synaxis-agent ] && echo "NOTHING DONE"
echo "== tampered"
sh -c "$(echo "$line" | sed 's/echo "[0-9a-f]*/echo "0000000000000000000000000000000000000000000000000000000000000000/') --name relay-1" 2>&1 || echo "REFUSED"
[ ! -e /usr/local/bin/synaxis-agent ] && echo "NOTHING DONE"
echo "== join"
sh -c "$line --name relay-1" | tee joined
ls -ld /var/lib/synaxis-agent /var/lib/synaxis-agent/join-token /usr/local/bin/synaxis-agent
command=$(sed -n 's/^  \(\/usr\/local\/bin\/synaxis-agent .*\)/\1/p' joined)
setpriv --reuid synaxis-agent --regid synaxis-agent --clear-groups sh -c "exec $command" 2>agent.log &
n=0
until bin/synaxis host show relay-1 -o json 2>/dev/null | grep -q '"connected": true'; do n=$((n + 1)); [ $n -lt 200 ] || { cat agent.log; exit 1; }; sleep 0.1; done
bin/synaxis host list
[ ! -e /var/lib/synaxis-agent/join-token ] && echo "TOKEN REMOVED"
echo "== uninstall"
kill $!
sh /usr/local/lib/synaxis-agent/join.sh --uninstall --purge --name relay-1
[ ! -e /usr/local/bin/synaxis-agent ] && [ ! -e /var/lib/synaxis-agent ] && ! id synaxis-agent 2>/dev/null && echo "ALL REMOVED"
EOF
