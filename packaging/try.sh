#!/usr/bin/env bash
# Installs the Debian package on a machine that has nothing of it: a fresh Debian in a container of its own, with systemd, without SDK and
# Node. Looks whether it starts as its own user, works with curl alone, survives kill -9 and a process that hangs, is upgraded and purged.
#   packaging/try.sh .build/packages/rovett_0.2.0_amd64.deb [FRESH]      (as root; needs debootstrap and systemd-container)
# FRESH is a folder that debootstrap made before.
set -euo pipefail
package=$(realpath "$1")
root=$(mktemp -d /var/tmp/rovett-try-XXXXXX)
init=""
finish() {
  [ -z "$init" ] || kill -9 "$init" 2>/dev/null || true
  wait 2>/dev/null || true
  rm -rf --one-file-system "$root"
}
trap finish EXIT
passed() { echo "ok: $*"; }
failed() { echo "NOT OK: $*" >&2; inside journalctl -u rovett --no-pager | tail -20 >&2; exit 1; }
inside() { nsenter -t "$init" -m -u -i -p -r -w -- env PATH=/usr/sbin:/usr/bin:/sbin:/bin "$@"; }
until_true() { for _ in $(seq 1 150); do "$@" >/tmp/rovett-try.log 2>&1 && return 0; sleep 0.3; done; cat /tmp/rovett-try.log >&2; return 1; }

[ -n "${2:-}" ] && cp -a "$2/." "$root" || debootstrap --variant=minbase --include=systemd,systemd-sysv,dbus,curl,procps,ca-certificates bookworm "$root" >/dev/null
# Packages come from where this machine's do.
cp /etc/apt/sources.list "$root/etc/apt/" 2>/dev/null || true
cp -r /etc/apt/sources.list.d /etc/apt/apt.conf.d "$root/etc/apt/"
cp /etc/resolv.conf "$root/etc/resolv.conf"
cp "$package" "$root/root/rovett.deb"
systemd-nspawn -D "$root" --boot --register=no --keep-unit --quiet >"$root/root/boot.log" 2>&1 &
machine=$!
find_init() { init=$(pgrep -P "$machine" | head -1) && [ -n "$init" ] && inside systemctl is-active multi-user.target; }
until_true find_init || { cat "$root/root/boot.log" >&2; exit 1; }
inside sh -c 'command -v dotnet node' && failed "this machine has an SDK" || passed "no SDK, no Node"

inside apt-get update -qq 2>/dev/null
inside env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends /root/rovett.deb >/dev/null 2>&1
until_true inside systemctl is-active rovett || failed "it does not start"
passed "installed and started by systemd"
[ "$(inside ps -o user= -p "$(inside systemctl show -p MainPID --value rovett)")" = rovett ] || failed "it runs as another user"
passed "it runs as the user rovett"
inside systemd-analyze verify rovett.service || failed "the unit is not sound"
passed "the unit is sound; exposure: $(inside systemd-analyze security rovett.service | sed -n 's/.*exposure level for rovett.service: //p')"

key=$(inside sed -n 's/.*"adminKey": *"\([^"]*\)".*/\1/p' /var/lib/rovett/credentials.json)
[ "$(inside stat -c '%a %U' /var/lib/rovett/credentials.json)" = "600 rovett" ] || failed "the credentials are readable by others"
send() { inside curl -sf http://127.0.0.1:7411/v1/notifications -H "Authorization: Bearer $key" -H "Content-Type: application/json" \
  -d "{\"to\":[\"role:engineer\"],\"type\":\"engine.check.due\",\"title\":\"Turnstone: bow thruster check due\"}"; }
stored() { inside curl -sf "http://127.0.0.1:7411/v1/notifications?limit=100" -H "Authorization: Bearer $key" | grep -o '"position"' | wc -l; }
send | grep -c '"id"' >/dev/null || failed "a send is not taken"
token=$(inside rovett token --user mara --role engineer --secret "$(inside sed -n 's/.*"tokenSigningSecret": *"\([^"]*\)".*/\1/p' /var/lib/rovett/credentials.json)")
{ inside timeout 3 curl -sN http://127.0.0.1:7411/v1/live -H "Authorization: Bearer $token" -H "Accept: text/event-stream" || true; } | grep -c "bow thruster" >/dev/null || failed "it does not arrive"
passed "sent and received with curl alone"
inside curl -sf http://127.0.0.1:7413/metrics | grep -c '^rovett_notifications_total{.*} 1' >/dev/null || failed "no metrics"
passed "metrics are read"
inside runuser -u rovett -- rovett doctor --config /etc/rovett/rovett.yaml --url http://127.0.0.1:7411 --quick || failed "the doctor finds something"

again() { [ "$(inside systemctl show -p MainPID --value rovett)" != "$1" ] && inside curl -sf http://127.0.0.1:7411/readyz; }
process=$(inside systemctl show -p MainPID --value rovett)
began=$(date +%s%N)
inside kill -9 "$process"
until_true again "$process" || failed "it does not come back after kill -9"
said() { inside journalctl -u rovett --no-pager | grep -c "$1" >/dev/null; }
passed "ready again $((($(date +%s%N) - began) / 1000000)) ms after kill -9, with $(stored) notification"

inside sh -c 'printf "keepFor: 30d\nbackups: /var/lib/rovett/backups\n" >> /etc/rovett/rovett.yaml; rovett config check --config /etc/rovett/rovett.yaml' >/dev/null || failed "the settings are invalid"
process=$(inside systemctl show -p MainPID --value rovett)
inside systemctl reload rovett
until_true said "The setting keepFor is '30d' from now on" || failed "a reload takes nothing up"
[ "$(inside systemctl show -p MainPID --value rovett)" = "$process" ] || failed "a reload restarts it"
passed "a reload takes settings up"
inside systemctl restart rovett
until_true said "Backed up to /var/lib/rovett/backups" || failed "no backup is made"
inside runuser -u rovett -- sh -c 'rovett store restore --from "$(ls -d /var/lib/rovett/backups/*Z | tail -1)" --data /var/lib/rovett/restored && rovett store check --data /var/lib/rovett/restored' >/dev/null || failed "the backup does not restore"
passed "a backup is made by itself, and restores"
inside mkdir -p /etc/systemd/system/rovett.service.d
printf '[Service]\nWatchdogSec=6\n' | inside tee /etc/systemd/system/rovett.service.d/soon.conf >/dev/null
inside systemctl daemon-reload && inside systemctl restart rovett
process=$(inside systemctl show -p MainPID --value rovett)
inside kill -STOP "$process"
until_true again "$process" || failed "a process that hangs is not ended"
passed "a process that hangs is ended by the watchdog, and another is ready"
inside env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --reinstall /root/rovett.deb >/dev/null 2>&1
until_true inside curl -sf http://127.0.0.1:7411/readyz || failed "it does not come back after an upgrade"
[ "$(stored)" = 1 ] || failed "the upgrade lost something"
passed "upgraded, with what was stored"
inside env DEBIAN_FRONTEND=noninteractive apt-get purge -y -qq rovett >/dev/null 2>&1
inside test ! -e /var/lib/rovett -a ! -e /etc/rovett || failed "a purge leaves something"
passed "purged"
