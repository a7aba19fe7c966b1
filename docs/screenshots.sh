#!/usr/bin/env bash
# Draws docs/screenshots anew from the demo workspace: a real terminal under Xvfb, a page in headless Chromium.
# Needs (Debian): xvfb xterm imagemagick fonts-dejavu-core chromium.  Run by: make screenshots
set -euo pipefail
root=$(cd "$(dirname "$0")/.." && pwd)
out=$root/docs/screenshots
work=$(mktemp -d)
trap 'kill ${XT:-} ${XV:-} 2>/dev/null || true; rm -rf "$work"' EXIT
export PATH=$root/.venv/bin:$PATH LANG=C.UTF-8 LC_ALL=C.UTF-8
whenvoca demo --keep-still "$work/larkmoor" 2>/dev/null
cd "$work/larkmoor"
now='--now "2027-03-15 09:00"'

shot() { # shot NAME COMMAND...: each command is shown with its output
  local name=$1; shift
  { echo 'PS1='; for line in "$@"; do printf 'printf "\\033[1m$ %%s\\033[0m\\n" %q\n%s %s\n' "$line" "$line" "$(case $line in "whenvoca words"*) ;; whenvoca*) echo "$now";; esac)"; done
    echo "touch $work/done; printf '\\033[?25l'; sleep 60"; } > "$work/script"
  rm -f "$work/done" "$work/display"
  exec 9>"$work/display"
  Xvfb -displayfd 9 -screen 0 1280x800x24 -nolisten tcp -dpi 96 >/dev/null 2>&1 & XV=$!
  until [ -s "$work/display" ]; do sleep .05; done
  DISPLAY=:$(cat "$work/display")
  export DISPLAY
  env -u NO_COLOR TERM=xterm-256color COLORTERM=truecolor xterm -u8 -fa "DejaVu Sans Mono" -fs 11 -geometry 140x43+0+0 -bw 0 -b 10 \
    -bg '#101418' -fg '#d8dee9' +sb -bc -xrm 'xterm*directColor: true' -e bash "$work/script" >/dev/null 2>&1 & XT=$!
  for _ in $(seq 400); do [ -e "$work/done" ] && break; sleep .05; done
  sleep .5
  import -window root -depth 8 "$work/raw.png"
  convert "$work/raw.png" -crop 1280x794+0+0 +repage -background '#101418' -extent 1280x800 PNG24:"$out/$name.png"
  kill "$XT" "$XV" 2>/dev/null || true
  wait "$XT" "$XV" 2>/dev/null || true
}

shot read-sheet 'whenvoca read sheet requests'
sed -i 's/Night-of at From/Nite-of at From/; s/"{Target} with {Instrument}"/"{Target} with {Instument}"/; s/Answer   "granted"/Anwser   "granted"/' workflows/slot-requests.voca
shot check 'whenvoca check'
sed -i 's/Nite-of/Night-of/; s/Instument/Instrument/; s/Anwser  /Answer  /' workflows/slot-requests.voca
shot rehearse 'whenvoca rehearse slot-requests --row 5,7,8'
shot run 'whenvoca check' 'whenvoca run' 'whenvoca run'
shot agenda-week 'whenvoca agenda --from 2027-03-15 --until 2027-03-21' 'whenvoca agenda domes outreach --from 2027-03-15 --week'
shot runs 'whenvoca runs' 'whenvoca places'
shot explain 'whenvoca explain 13' 'whenvoca explain --row 10 --workflow slot-requests'
shot undo 'whenvoca undo 13 15 --yes' 'whenvoca runs --limit 4'
cp requests.xlsx strange.xlsx
shot draft 'whenvoca draft strange.xlsx --into domes --name strange' 'whenvoca check strange'
rm workflows/strange.voca
shot watch 'whenvoca watch --until "2027-03-17 06:00"' 'whenvoca runs --limit 5' 'whenvoca places'
shot words 'whenvoca words create event'
now='--now "2027-03-17 10:00"'
shot say 'whenvoca say "lens test friday 2pm in the hall, remind me 15 min before" --in domes' \
  'whenvoca say "push it back by 30 min"' 'whenvoca say "no, 4pm"' \
  'whenvoca say "lunch with ana fri 1ish at the old mill and a tour at 4" --in domes' 'whenvoca say "yes" --in domes' \
  'whenvoca say "could the lens test be an hour earlier?"' \
  'whenvoca say "make dome check 31 april 10:00" --in domes' 'whenvoca read text --explain "the lens test is in the east dome now"'
shot desk 'whenvoca say "am I free tomorrow before noon?" --as ines --leave' \
  'whenvoca say "filter change tomorrow 11:20 for 50 min" --as ines --leave' 'whenvoca run calendar-desk' \
  'whenvoca say "calendar, delete everything on friday" --as tomas --to dome-floor --leave' \
  'whenvoca run calendar-desk --quiet' 'whenvoca say --to dome-floor' 'whenvoca explain --message filter'
whenvoca agenda --from 2027-03-22 --png "$out/agenda-png.png" --now "2027-03-23 09:00" 2>/dev/null

whenvoca report --from 2027-03-01 --until 2027-04-01 --html "$work/report.html" --now "2027-03-23 09:00" 2>/dev/null

# The form of docs/examples, as it is empty and after mistakes. It is served by `watch`.
picture() { # picture NAME URL
  chromium --headless --no-sandbox --disable-gpu --no-first-run --disable-background-networking --disable-component-update \
    --disable-sync --user-data-dir="$work/chromium" --window-size=1280,800 --hide-scrollbars \
    --screenshot="$out/$1.png" "$2" >/dev/null 2>&1
}
mkdir -p "$work/lending/workflows"
cp "$root/docs/examples/lending.toml" "$work/lending/whenvoca.toml"
printf 'when lending gains, changes or loses an entry\n\nmirror event in loans\n  title  "Small telescope: {Name}"\n  start  Out\n  end    Back\n  clash  refuse\n' \
  > "$work/lending/workflows/loan-follows.voca"
printf 'when desk hears a message\n\nanswer message in loans\n' > "$work/lending/workflows/page-desk.voca"
printf 'when requests gains a row\n\ncreate event in loans\n  title  Title\n  start  Night at 21:00\n' > "$work/lending/workflows/nights.voca"
printf 'Request no,Title,Night\n' > "$work/lending/requests.csv"
(cd "$work/lending" && exec whenvoca watch >/dev/null 2>&1) & WATCH=$!
site=http://127.0.0.1:8077
until curl -sf "$site/lending" >/dev/null; do sleep .2; done
picture report "file://$work/report.html"
picture form "$site/lending"
curl -s "$site/lending" -d 'Name=Joana' -d 'Address=joana at home' -d 'Out=2026-01-02' \
  | sed 's#/style.css#style.css#' > "$work/mistakes.html"
curl -s "$site/style.css" > "$work/style.css"
picture form-mistakes "file://$work/mistakes.html"
desk=$(cd "$work/lending" && whenvoca places desk --link ines --quiet)
for text in 'anything on friday?' 'make mirror wash tomorrow at 10:40 for 50 minutes' 'push it back by half an hour'; do
  curl -s -o /dev/null "$desk" --data-urlencode "text=$text"
done
picture page-desk "$desk"
printf 'Request no,Title,Night\nR-101,M 81,2027-03-16\nR-102,Jupiter,31.02.2027\n' > "$work/lending/requests.csv"
until (cd "$work/lending" && whenvoca runs --failed --json | grep -q R-102); do sleep .3; done
picture board "$(cd "$work/lending" && whenvoca places --board ana --quiet)"
kill "$WATCH"
ls -l "$out"
