#!/usr/bin/env bash
# Takes the pictures in this folder from the demo: each command in a terminal window of 1280x800 under Xvfb.
# Needs, from Debian: xvfb xterm imagemagick fonts-dejavu-core x11-utils chromium
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
cd "$here/../.."
work=$(mktemp -d)
trap 'kill "${server:-}" "${stand:-}" "${shop:-}" "${host:-}" "${attic:-}" "${cellar:-}" 2>/dev/null || true; rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -o "$work/vornix" ./cmd/vornix
export PATH="$work:$PATH" DISPLAY=:97 HOME="$work"
Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
until xdpyinfo >/dev/null 2>&1; do sleep 0.1; done
cd "$work"

# shot NAME COMMAND [REALLY]: run COMMAND in a terminal window that fills the screen, and photograph it when it has ended.
# REALLY is run in its place when the picture needs more than the command itself.
shot() {
  rm -f done
  cat > run.sh <<SH
stty cols 158
printf '\033[?25l\033[1;36m\$\033[0m %s\n' $(printf '%q' "$2")
${3:-$2}
touch done
sleep 20
SH
  xterm -fa 'DejaVu Sans Mono' -fs 9 -geometry 180x52+0+0 -bg '#15181c' -fg '#d6d9dd' -xrm 'XTerm*scrollBar: false' \
    -xrm 'XTerm*faceSize: 9' -bw 0 -b 8 -e bash run.sh &
  local window=$!
  until [ -e done ]; do sleep 0.1; done
  sleep 0.6
  import -window root -strip -define png:compression-level=9 "$here/$1.png"
  kill "$window" 2>/dev/null || true
  wait "$window" 2>/dev/null || true
}

in_terminal() { script -qec "$1" /dev/null; } # keeps colours when what it prints is cut
export -f in_terminal
shot demo "vornix demo" "in_terminal 'vornix demo' | sed -n '/Lower Sidings/q;p'"
vornix demo --quiet
cd vornix-demo/highline
vornix stand server ../servers/kestrel --quiet &
stand=$!
vornix stand workshop ../workshops/kestrel --quiet &
shop=$!
until [ -s ../workshops/kestrel/stand-workshop.url ]; do sleep 0.1; done
vornix farm host --dir "$work/farm" --listen 127.0.0.1:0 --quiet &
host=$!
until [ -s "$work/farm/farm.key" ]; do sleep 0.1; done
for name in attic cellar; do
  vornix farm worker --key "$work/farm/farm.key" --name "$name" --jobs 1 --dir "$work/farm-$name" --quiet &
  eval "$name=$!"
done
export VORNIX_FARM="$work/farm/farm.key"
until vornix farm status | grep -q cellar; do sleep 0.1; done
mv .vornix out "$work" # made again, with help, and put back
shot farm "vornix build --farm --draft; vornix farm status" "vornix build --draft --jobs 1; echo; vornix farm status"
kill "$attic" "$cellar" "$host"
unset VORNIX_FARM
rm -rf .vornix out
mv "$work/.vornix" "$work/out" .
shot status "vornix trust --yes; vornix status; vornix deploy practice --plan; vornix release --plan" "vornix trust --yes; echo; vornix status; vornix deploy practice --plan; vornix release --plan"
kill "$stand"
shot inspect-map "vornix inspect out/tree/maps/cairn_station.vnm; vornix needs --by textures/rock/slab.png" \
  "in_terminal 'vornix inspect out/tree/maps/cairn_station.vnm' | sed -n '1,33p'; echo ...; echo; in_terminal 'vornix needs --by textures/rock/slab.png' | head -14"
shot pack "vornix pack; vornix try; vornix needs --by sounds/station/hum.wav; vornix sweep --yes; vornix restore" "rm -rf out/bundles; vornix pack; vornix try; echo; vornix needs --by sounds/station/hum.wav; echo; vornix sweep --yes; vornix restore"
head -c 1850000 out/bundles/highline-1.0.0.parcel > cut.parcel
sed -i 's/for 3s/for 5s, then rest/' scripts/winch.txt
sed -i 's/item winch at=7,13/item winch at=6.5,13/' maps/cairn_station.vnx
vornix pack --quiet 2>/dev/null
shot look-inside "vornix extract FILE materials/rock/cairn_wet.toml --with-needs; vornix diff 1.0.0 out/bundles; vornix salvage cut.parcel saved.parcel" \
  "vornix extract out/bundles/highline-1.0.0.parcel materials/rock/cairn_wet.toml --with-needs --to look; echo; vornix diff 1.0.0 out/bundles; echo; in_terminal 'vornix salvage cut.parcel saved.parcel' | tail -12"
rm -rf look saved.parcel cut.parcel
sed -i 's/for 5s, then rest/for 3s/' scripts/winch.txt
sed -i 's/item winch at=6.5,13/item winch at=7,13/' maps/cairn_station.vnx
vornix pack --quiet 2>/dev/null
vornix sprite ../lower-sidings/sprites/mole.toml "$work/sprite.png" --state walk --direction east --scale 12 --quiet
vornix inspect out/tree/maps/cairn_station.vnm --picture "$here/lit-postcard.png" --shot postcard --quiet
vornix shoot saltpan_relay --plan-view --quiet
cp out/pictures/plans/saltpan_relay-isometric.png "$here/plan-isometric.png"
shot shoot "vornix shoot cairn_station; vornix inspect out/tree/maps/cairn_station.vnm --shot porch"
convert ../lower-sidings/out/pictures/tram_depot.png "$work/sprite.png[0]" -background "#15181c" -gravity center -append "$here/tiles.png"
cat > "$work/gallery.vnx" <<'VNX'
map gallery title="Sorting Gallery" sealed=yes
solid floor box 0,0,-0.5 30,20,0 material=wood/plank
solid roof box 0,0,3 30,20,3.5 material=wood/plank
solid north box -0.5,20,-0.5 30.5,20.5,3.5 material=rock/slab
solid south box -0.5,-0.5,-0.5 30.5,0,3.5 material=rock/slab
solid west box -0.5,0,-0.5 0,20,3.5 material=rock/slab
solid east box 30,0,-0.5 30.5,20,3.5 material=rock/slab
repeat rooms line count=5 step=6,0,0
  solid a box 0,8,0 2.2,8.5,3 material=rock/slab
  solid b box 3.6,8,0 6,8.5,3 material=rock/slab
  solid c box 0,11.5,0 4.2,12,3 material=rock/slab
  solid d box 5.4,11.5,0 6,12,3 material=rock/slab
  solid over_a box 2.2,8,2.2 3.6,8.5,3 material=wood/plank
  solid over_b box 4.2,11.5,2.2 5.4,12,3 material=wood/plank
repeat walls line count=4 step=6,0,0
  solid a box 5.8,0,0 6.2,8,3 material=rock/slab
  solid b box 5.8,12,0 6.2,20,3 material=rock/slab
spawn clerk at=3,3,0 facing=90
VNX
vornix inspect "$work/gallery.vnx" --picture "$here/map-cells.png" --view cells --quiet
sed -i 's/for 3s/for 5s, then rest/' scripts/winch.txt
sed -i 's/item winch at=7,13/item winch at=6.5,13/' maps/cairn_station.vnx
echo "Winches rest between two trips." > notes/1.1.0.md
vornix release 1.1.0 --yes --without-server --quiet 2>/dev/null
mkdir -p ../game/parcels && cp out/releases/1.0.0/highline-1.0.0.parcel ../game/parcels/ && cp -r out/tree/maps out/tree/materials out/tree/textures ../game/
mkdir -p ../snowy/textures/rock && cp out/tree/textures/snow/drift.ktx2 ../snowy/textures/rock/cairn.ktx2
shot patch "vornix patch make 1.0.0 1.1.0 --without-beside; vornix patch apply out/patches ../game; vornix patch overlay ../snowy ../game --swap; ..." \
  "vornix patch make 1.0.0 1.1.0 --without-beside; echo; vornix patch apply out/patches ../game; echo; vornix patch overlay ../snowy ../game --swap; vornix patch list ../game; echo; vornix patch undo ../game/parcels"
vornix key new ../highline.key --quiet
vornix index write --key ../highline.key --to ../public --quiet
mkdir -p ../player && cp out/releases/1.0.0/highline-1.0.0.parcel ../player/
printf '{ "title": "Highline", "crew": "Highline crew, M. Ridge", "season": "thaw", "couriers": "2-6", "homepage": "none" }' > ../old.json
shot fetch "vornix addon import ../old.json --plan; vornix index check ../public; vornix fetch ../public ../player; vornix index retract 1.1.0 ..." \
  "vornix addon import ../old.json --plan; echo; vornix index check ../public; echo; vornix fetch ../public ../player; echo; vornix index retract 1.1.0 --reason 'the winch in the tower does not stop'; vornix index write --key ../highline.key --to ../public; echo; vornix fetch ../player"
vornix index retract 1.1.0 --undo --quiet
mkdir -p ../servers/ridge ../servers/valley
for name in ridge valley; do
  printf '\n[target.%s]\nkind = "folder"\npath = "../servers/%s"\n' $name $name >> vornix.toml
  printf '# others play here too\nold_tarn relay\n' > ../servers/$name/rota.txt
done
cp notes/1.1.0.md notes/1.2.0.md
vornix release 1.2.0 --key ../highline.key --yes --quiet --without-server 2>/dev/null
shot history "vornix history; vornix handover --key ../highline.key; vornix release 1.3.0 --plan" \
  "vornix history; echo; vornix handover --key ../highline.key; vornix release 1.3.0 --plan --key ../highline.key"
for scheme in 1 0; do # light, dark
  chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --blink-settings=preferredColorScheme=$scheme --window-size=1280,1560 --screenshot="$work/report-$scheme.png" "file://$PWD/out/reports/1.2.0.html" >/dev/null 2>&1
done
convert "$work/report-1.png" -crop 1280x800+0+0 +repage "(" "$work/report-0.png" -crop 1280x760+0+800 +repage ")" -append -strip -define png:compression-level=9 "$here/report.png"
sed -i 's/^version = "1.2.0"/version = "1.3.0"/; ' vornix.toml
sed -i 's/for 5s, then rest/for 4s, then rest/' scripts/winch.txt
vornix pack --quiet 2>/dev/null
shot deploy "vornix deploy ridge valley --wave --yes; vornix deploy withdraw saltpan_relay ridge --yes; vornix deploy history valley" \
  "vornix deploy ridge valley --wave --yes; vornix deploy withdraw saltpan_relay ridge --yes; echo; vornix deploy history valley"
cp notes/1.1.0.md notes/1.3.0.md
vornix deploy preview practice ../welcome --quiet
chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 --screenshot="$here/welcome.png" "file://$PWD/../welcome/welcome.html" >/dev/null 2>&1
convert "$here/welcome.png" -strip -define png:compression-level=9 "$here/welcome.png"
sed -i 's/Tell us what broke/Tell us what broke, and where,/' page.md
sed -i 's/^version = "1.3.0"/version = "1.4.0"/' vornix.toml
sed -i 's/item winch at=6.5,13/item winch at=6,13/' maps/cairn_station.vnx
vornix build --quiet 2>/dev/null && vornix pack --quiet 2>/dev/null
shot publish "vornix publish exchange --plan; vornix publish exchange --yes; vornix publish visibility exchange public --yes; vornix publish history exchange" \
  "vornix publish exchange --plan 2>&1; in_terminal 'vornix publish exchange --yes' | tail -1; echo; vornix publish visibility exchange public --yes 2>/dev/null; vornix publish history exchange"
page=$(sed -n "s/^id = '\\(.*\\)'/\\1/p" published.toml)
chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 --screenshot="$work/page.png" "$(cat ../workshops/kestrel/stand-workshop.url)/items/$page" >/dev/null 2>&1
convert "$here/publish.png" "$work/page.png" -append -strip -define png:compression-level=9 "$here/publish.png"
sed -i 's/solid deck box/solid deck bxo/; s/spawn blue_2 at=/spawn blue_2 ta=/; s/point 18,6.6,3.2/point 18,6.6/' maps/cairn_station.vnx
shot mistakes "vornix build"
