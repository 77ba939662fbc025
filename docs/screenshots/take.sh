#!/usr/bin/env bash
# Takes the pictures of the README anew: each command in a terminal window under Xvfb, on the demo's world.
# Needs: xvfb xterm imagemagick fonts-dejavu-core openssh-server zip chromium
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")" && pwd)
cd "$here/../.."
# What makes the program a little faster and takes minutes to build changes no picture.
cargo build --release --quiet
bin=$PWD/target/release
work=/tmp/larkspur
rm -rf $work
mkdir -p $work
display=:97
Xvfb $display -screen 0 1280x800x24 >/dev/null 2>&1 &
xvfb=$!
trap 'kill $xvfb; rm -rf "$work"' EXIT
export DISPLAY=$display PATH="$bin:$PATH" XDG_CACHE_HOME="$work/cache" USER=wren
export XDG_CONFIG_HOME="$work/config" XDG_STATE_HOME="$work/state"
sleep 1
yalotheca stand-in world "$work/world"
cd "$work/world/harbour"

size='-fs 14 -geometry 105x34+0+0'

# shot NAME COMMAND...: shows the command as typed and what it prints, and takes the picture
shot() {
    local name=$1
    shift
    rm -f "$work/ready"
    xterm -fa 'DejaVu Sans Mono' $size -bg '#14181c' -bw 0 -fg '#d8dee4' -b 12 +sb -e bash -c \
        'printf "\033[1m\$ %s\033[0m\n" "$2"; eval "$2"; touch "$1/ready"; sleep 20' shot "$work" "$*" &
    local window=$!
    for _ in $(seq 100); do [ -e "$work/ready" ] && break; sleep 0.1; done
    sleep 0.4
    import -window root -resize 1280x800 "$here/$name.png"
    kill $window
    wait $window 2>/dev/null || true
}

# shot_during NAME SECONDS COMMAND...: the same, so long after the command began
shot_during() {
    local name=$1 seconds=$2
    shift 2
    xterm -fa 'DejaVu Sans Mono' $size -bg '#14181c' -bw 0 -fg '#d8dee4' -b 12 +sb -e bash -c \
        'printf "\033[1m\$ %s\033[0m\n" "$1"; eval "$1"; sleep 20' shot "$*" &
    local window=$!
    sleep "$seconds"
    import -window root -resize 1280x800 "$here/$name.png"
    kill $window
    wait $window 2>/dev/null || true
}

shot adopt "yalotheca adopt --name 'Larkspur Harbour' --catalogue quayside=../quayside --set program=$work/world/bin/saltwick-server" 
shot check "yalotheca check"
yalotheca fix --yes >/dev/null
yalotheca add tidebell --yes >/dev/null
shot no-lineup "yalotheca add quiet-bells 'tidebell@>=1.3' --yes"
shot update "yalotheca update --yes"
yalotheca add regatta --yes >/dev/null
yalotheca off cobbles --because 'slippery when wet' --yes >/dev/null
shot list "yalotheca list"
yalotheca on cobbles --yes >/dev/null
shot order "yalotheca order"
# A server that always logs much, and a file that somebody broke.
server=$work/world/bin/saltwick-server
cp "$server" "$server.plain"
{
    echo '#!/bin/sh'
    for a in a b c d e f g h i j k l; do for b in a b c d e f g h i j k l m n o p q r s t u v w x y; do
        echo "echo '[00:00:01] error chart $a$b has no tide table'"
    done; done
    tail -n +2 "$server.plain"
} > "$server"
yalotheca game trust saltwick --yes >/dev/null
yalotheca trial --accept >/dev/null || true
cp plugins/tidebell/settings.yml "$work/settings.yml"
printf 'volume: 5\nstorm: ]\nchimes: 12\n' > plugins/tidebell/settings.yml
shot trial "yalotheca trial"
cp "$work/settings.yml" plugins/tidebell/settings.yml
# A server that fails only with two contents together.
{
    echo '#!/bin/sh'
    echo 'if ls "$1"/plugins/regatta-*.swp "$1"/plugins/gull-chat-*.swp >/dev/null 2>&1; then'
    echo "    echo '[00:00:01] error harbour closed: regatta and gull-chat both ring the bell'; exit 1"
    echo 'fi'
    tail -n +2 "$server.plain"
} > "$server"
yalotheca game trust saltwick --yes >/dev/null
shot isolate "yalotheca isolate --yes"
cp "$server.plain" "$server"
yalotheca game trust saltwick --yes >/dev/null
yalotheca drop regatta --yes >/dev/null
yalotheca drop tidebell --yes >/dev/null

# The crew's kites: what came from a host at which not everything is what it seems.
cd "$work"
yalotheca stand-in kites "$work/crew"
yalotheca stand-in files "$work/crew/files" > "$work/address" &
host=$!
trap 'kill $xvfb $host; rm -rf "$work"' EXIT
until [ -s "$work/address" ]; do sleep 0.1; done
at=$(cat "$work/address")
cd "$work/crew/kites"
yalotheca adopt --name 'Larkspur Kites' --set "program=$work/crew/bin/kitehollow-server" >/dev/null
shot add "yalotheca add ${at}s/gull-cliffs-2.zip?view=1 ../files/dusk_harbour.ksky --yes"
yalotheca add "${at}f/windmill.zip" --yes >/dev/null
yalotheca add "${at}f/two-lofts.zip" --only net_loft --yes >/dev/null
yalotheca maps rotate gull_cliffs pier_lights windmill_row --yes >/dev/null
cp ../files/half_moon.kmap maps/
rm maps/net_loft.lanes
shot maps "yalotheca maps"
# What their players get: a map that the mirror lacks, and a player with an old copy of it.
rm maps/half_moon.kmap
yalotheca maps play gull_cliffs --yes >/dev/null
yalotheca mirror build ../web >/dev/null
yalotheca mirror serve ../web --port 8097 >/dev/null 2>&1 &
mirror=$!
trap 'kill $xvfb $host $mirror; rm -rf "$work"' EXIT
sleep 1
yalotheca mirror address http://127.0.0.1:8097/ --yes >/dev/null
yalotheca trial --keep >/dev/null
shot console "yalotheca console maps 'show fetch_cap_mb'; yalotheca settings server fetch_cap_mb=48 --live --yes; yalotheca status"
mkdir -p ../wren/maps
head -c 170000 maps/windmill_row.kmap > ../wren/maps/gull_cliffs.kmap
rm ../web/sky/*
shot rehearse "yalotheca rehearse; yalotheca rehearse --as ../wren; yalotheca mirror"
yalotheca stop >/dev/null
kill $mirror

# The moor, and the harbour's fishing: configuration.
cd "$work/world/harbour"
yalotheca add net-and-line@=1.0 --yes >/dev/null
yalotheca settings net-and-line '/multipliers/*=2' --yes >/dev/null
yalotheca trial >/dev/null
yalotheca settings net-and-line limit=55 --yes >/dev/null
shot settings "yalotheca settings net-and-line; yalotheca settings net-and-line season=wintr; yalotheca settings"
# What players of a modded harbour need, as a page.
mkdir -p "$work/looks/lanterns/pictures"
cd "$work/looks/lanterns"
echo '{"name": "lanterns", "format": 3}' > look.json
echo lit > pictures/pier.png
zip -qr ../lanterns.zip .
mods="$work/mods"
mkdir -p "$mods"
cd "$mods"
swm() { # swm ID VERSION SIDE
    printf 'id = "%s"\nversion = "%s"\nengine = ">=2"\nloader = "pontoon >=3"\nside = "%s"\n' "$1" "$2" "$3" > mod.toml
    zip -q "$1-$2.swm" mod.toml
    rm mod.toml
}
printf '{"name": "pontoon", "version": "3.1", "engine": ">=2 <3"}' > loader.json
zip -q pontoon-3.1.swl loader.json
rm loader.json
swm rope-bridges 0.4 both
swm gull-sounds 1.0 player
yalotheca stand-in files "$mods" > "$work/address-of-mods" &
shelf=$!
trap 'kill $xvfb $host $shelf; rm -rf "$work"' EXIT
until [ -s "$work/address-of-mods" ]; do sleep 0.1; done
cd "$work/world/harbour"
yalotheca add ../../mods/pontoon-3.1.swl "$(cat "$work/address-of-mods")f/rope-bridges-0.4.swm" ../../mods/gull-sounds-1.0.swm --yes >/dev/null
yalotheca handout --to "$work/before.html" >/dev/null
cp "$work/looks/lanterns.zip" "$mods/lanterns.zip"
(cd "$mods" && swm rope-bridges 0.5 both && swm lamp-posts 1.2 both)
yalotheca players pack "$(cat "$work/address-of-mods")f/lanterns.zip" --must --yes >/dev/null
yalotheca drop gull-sounds --yes >/dev/null
yalotheca add "$(cat "$work/address-of-mods")f/rope-bridges-0.5.swm" ../../mods/lamp-posts-1.2.swm --yes >/dev/null
yalotheca handout --to "$work/players.html" >/dev/null
page() { # page NAME SIZE FILE
    chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size="$2" --screenshot="$here/$1.png" "file://$3" 2>/dev/null
}
sed -i "s#$(cat "$work/address-of-mods")f/#https://files.larkspur.example/#; s#$(cat "$work/address-of-mods")#https://files.larkspur.example/#g" "$work/players.html"
sed -i 's#http:&\#x2f;&\#x2f;127.0.0.1:[0-9]*&\#x2f;f#https:\&\#x2f;\&\#x2f;files.larkspur.example#g' "$work/players.html"
page handout 1280,800 "$work/players.html"
kill $shelf
cd "$work"
yalotheca stand-in moor "$work/heath"
cd "$work/heath/moor"
yalotheca adopt --name 'Larkspur Moor' --catalogue tweaks=../tweaks --set "program=$work/heath/bin/mossgarrow-server" \
    --set "index=$work/heath/bin/mossgarrow-index" >/dev/null
yalotheca trial >/dev/null
yalotheca add lantern-seller reed-burst --set place=120.5,3,88 --yes >/dev/null
yalotheca add ../item-host/files/44*.zip --yes >/dev/null
shot clashes "yalotheca clashes; yalotheca clashes keep pier_04.tile --from Heronry --yes"
rm keys/bulrush.mkey
echo patched >> items/4410021/Heronry/parts/nests.mpk
shot keys "yalotheca keys; yalotheca check"
yalotheca settle --replace 'items/**' --yes >/dev/null
mkdir -p saves/Basemarsh/open saves/Mudflats/long
head -c 48000 /dev/zero > saves/Basemarsh/open/visits
head -c 9000 /dev/zero > saves/Mudflats/long/visits
shot campaigns "yalotheca maps; yalotheca maps play Reedfen/open --yes; yalotheca maps"

# A server on another machine: this one, through its own SSH server (openssh-server).
mkdir -p "$work/keys" /run/sshd
for key in host user; do ssh-keygen -q -t ed25519 -N '' -f "$work/keys/$key"; done
cp "$work/keys/user.pub" "$work/keys/authorized"
printf '%s\n' 'Port 2297' 'ListenAddress 127.0.0.1' "HostKey $work/keys/host" "AuthorizedKeysFile $work/keys/authorized" \
    'PidFile none' "Subsystem sftp internal-sftp -d $work/other" 'StrictModes no' 'UsePAM no' > "$work/keys/config"
/usr/sbin/sshd -D -f "$work/keys/config" &
ssh=$!
trap 'kill $xvfb $host $ssh; rm -rf "$work"' EXIT
echo "quay.example $(cat "$work/keys/host.pub")" > "$work/keys/known"
export YALOTHECA_SSH_OPTIONS="HostName=127.0.0.1
Port=2297
HostKeyAlias=quay.example
IdentityFile=$work/keys/user
IdentitiesOnly=yes
UserKnownHostsFile=$work/keys/known
GlobalKnownHostsFile=none"
yalotheca stand-in world "$work/other"
mkdir "$work/desk"
cd "$work/desk"
size='-fs 11 -geometry 140x45+0+0'
shot remote "yalotheca adopt sftp://quay.example/~/harbour --name 'Larkspur Harbour' --catalogue quayside=../other/quayside; yalotheca check"
mkdir "$work/charts"
for at in north south east west harbour pier quay lighthouse bay reef sound strait; do
    mkdir "$work/chart"
    printf '{"id": "%s-charts", "title": "Charts: %s", "version": "3.0"}' $at $at > "$work/chart/plugin.json"
    head -c 100M /dev/urandom > "$work/chart/soundings"
    (cd "$work/chart" && zip -0q "$work/charts/$at-charts-3.0.swp" ./*)
    rm -r "$work/chart"
done
shot_during sending 2.6 "yalotheca add ../charts/* --yes"
