#!/usr/bin/env bash
# Makes every picture of docs/screenshots/ afresh from the demo data: terminal windows as a person sees them, and figures.
# They want a virtual screen and a browser:  apt-get install xvfb xterm imagemagick fonts-dejavu-core chromium
set -eu
cd "$(dirname "$0")/.."
for need in Xvfb xterm import convert chromium; do
  command -v $need >/dev/null || { echo "$need is missing: apt-get install xvfb xterm imagemagick fonts-dejavu-core chromium"; exit 2; }
done
program=$PWD/.venv/bin/hushed-wire
out=$PWD/docs/screenshots
work=$(mktemp -d)
screen=
trap 'kill $screen 2>/dev/null || true; rm -rf "$work"' EXIT
mkdir -p "$out"
"$program" demo "$work/data" --no-tour >/dev/null
cd "$work/data"
# A rig with pins counted the other way, pull-ups that are too strong, and too fast a clock.
sed 's/2.2kOhm/470Ohm/; s/"GPIO3"/5/; s/"GPIO2"/3/; s/400kHz/1MHz/' front-desk.toml > ../faulty-rig.toml

# A bring-up of the pump room that was copied from a one-line panel, hurried, and never switched on.
sed 's/lines=2/lines=1/; s/display state=on.*/display state=off cursor=off blink=off/; /wait 2ms/d' pump-room.hush > ../hurried.hush

# The pump room's display behind a shift register instead of an expander.
cat > ../register.toml <<RIG
title = "Pump room, behind a register"
[[bus]]
name = "wires"
kind = "shift"
clock = "1MHz"
lines = { clock = "SRCLK", data = "SER", latch = "RCLK" }
[[bridge]]
name = "register"
on = "wires"
part = "74hc595"
drives = { rs = "q1", e = "q2", backlight = "q3", d4 = "q4", d5 = "q5", d6 = "q6", d7 = "q7" }
[[device]]
name = "pump-lcd"
on = "register"
part = "hd44780"
panel = "20x4"
RIG
"$program" rehearse pump-room.hush --rig ../register.toml -o ../register.vcd -q

mkfifo "$work/number"
Xvfb -displayfd 3 -screen 0 1280x800x24 -nolisten tcp 3>"$work/number" >/dev/null 2>&1 & screen=$!
read -r number <"$work/number"

terminal() { # NAME ARGUMENT …: the window in which hushed-wire runs with these arguments
  local name=$1; shift
  {
    local shown= word
    for word in "$@"; do case $word in *[\ \<\>\"]*) shown+=" '$word'" ;; *) shown+=" $word" ;; esac; done
    printf 'cd %q\nprintf "\\033[1;32m$\\033[0m hushed-wire%%s\\n" %q\n' "$PWD" "$shown"
    printf 'printf "\\033[?25l"\n'
    printf '%q ' "$program" "$@"
    printf '\ntouch %q\nsleep 60\n' "$work/done"
  } >"$work/run"
  rm -f "$work/done"
  DISPLAY=:$number TERM=xterm-256color COLORTERM=truecolor LC_ALL=C.UTF-8 xterm -u8 -fa 'DejaVu Sans Mono' -fs 11 \
    -geometry 140x42+0+0 -bg '#14181f' -fg '#e6e6e6' +sb -b 8 -e bash "$work/run" >/dev/null 2>&1 &
  local window=$!
  for _ in $(seq 100); do [ -e "$work/done" ] && break; sleep 0.2; done
  sleep 0.5
  # Cut to what is on it: the rest of the window is empty.
  DISPLAY=:$number import -window root "$work/window.png"
  convert "$work/window.png" -crop 1274x794+2+2 +repage -trim +repage -bordercolor '#14181f' -border 12x8 -strip -define png:exclude-chunks=date,time "$out/$name.png"
  kill $window 2>/dev/null || true
  wait $window 2>/dev/null || true
  echo "docs/screenshots/$name.png"
}

figure() { # NAME ARGUMENT …: a file that the program writes
  local name=$1; shift
  "$program" "$@" "$out/$name.png" >/dev/null 2>&1
  echo "docs/screenshots/$name.png"
}

rig="--rig front-desk.toml"
terminal diagnose diagnose no-pump.vcd $rig
terminal lines lines healthy-volts.csv.gz
terminal find find engine-room.vcd 'select=cs2 and command=page' --rig engine-room.toml --context 1
terminal screen screen healthy.vcd $rig
terminal wiring wiring ../faulty-rig.toml
terminal catalog catalog pcd8544
terminal explain explain pcd8544 0x21, 0x90, 0x20, 0x0C, data 0x1F, 0x05, 0x07, command 0x0D --state
terminal build build ../hurried.hush --rig pump-room.toml
figure gate-keeper send gate-keeper.hush --rig gate-keeper.toml --picture
figure pack pack tide.pbm --part ssd1306 --marks --picture
"$program" pack tide.pbm --part ssd1306 -o ../unknown.bin
figure unpack unpack ../unknown.bin --guess --picture
terminal scan scan $rig --mishap strap:tide,0x3C
figure plot-spi plot handheld.vcd --from 0.2ms --to 0.45ms -o
terminal decode decode ../register.vcd --rig ../register.toml
"$program" diagnose no-pump.vcd $rig --fail-on never --report ../report.html >/dev/null
chromium --headless --no-sandbox --disable-gpu --no-first-run --disable-background-networking --disable-component-update --disable-sync \
  --user-data-dir="$work/browser" --hide-scrollbars --window-size=1280,1180 --screenshot="$out/report.png" "file://$work/report.html" >/dev/null 2>&1
echo docs/screenshots/report.png
terminal compare compare healthy.vcd tide-new.hush --rig-b front-desk.toml --times
terminal unravel unravel old-box-1.vcd old-box-2.vcd --shown old-box.pbm --into ../found
terminal budget budget gate-keeper.toml --source 400MHz --goal 10
figure led-sign screen led-sign.vcd --rig led-sign.toml --picture
