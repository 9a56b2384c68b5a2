#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# Draws the figures in this folder anew (not those of a terminal) from the demonstration's models: docs/screenshots/draw.sh [netloop]
set -eu
here=$(cd "$(dirname "$0")" && pwd)
netloop=${1:-$here/../../build/release/netloop}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$here/../.."
run() { "$netloop" run "$@" --quiet; }
run examples/bascule/bridge.loop --out "$work/bridge.h5"
"$netloop" plot "$work/bridge.h5" leaf.angle pump.outlet.p left.head_p left.rod_side_p valve.spool oil.T winding.T --title "Bascule bridge: up, open, down" --out "$here/bridge.png"
"$netloop" modes examples/bascule/bridge.loop --over 60 --at worst --draw "$here/modes.png" >/dev/null
"$netloop" linear examples/bascule/bridge.loop --at 12s --open pid.out --verify --until 1s --draw "$here/linear.png" >/dev/null
run examples/hydraulics/power_pack.loop hour --out "$work/hour.h5"
"$netloop" plot "$work/hour.h5" tank_temperature cooler.warm pump.T cooler.heat block.p --title "The power pack over an hour" --out "$here/power_pack.png"
run examples/canal/lock.loop emergency --out "$work/lock.h5"
"$netloop" plot "$work/lock.h5" shaft.level chamber.level flow --title "The gate shuts within 3 s at full flow" --out "$here/lock.png"
run examples/bascule/operation.loop opening --out "$work/opening.h5"
"$netloop" plot "$work/opening.h5" leaf.angle plan / barrier duty --events --out "$here/operation.png"
"$netloop" property oil kinematic_viscosity --T=0degC..100degC --p 1bar,150bar,300bar --unit cSt --plot "$here/property.png" >/dev/null
bridge=examples/bascule/whole/bridge.loop
for scenario in calm_day storm_lift; do run $bridge $scenario --out "$work/$scenario.h5"; done
"$netloop" plot "$work/storm_lift.h5" --figure "One opening" --out "$here/whole_bridge.png"
"$netloop" plot "$work/calm_day.h5" leaf.angle lifting.head_p --with "$work/storm_lift.h5" --title "A calm day and a storm" --out "$here/two_runs.png"
"$netloop" draw $bridge --out "$here/diagram.png"
cat >"$work/tank.loop" <<'LOOP'
use hydraulics, fluids
system Filling {
    fluid water = Water(temperature = 12 degC)
    part  supply : Tank(oil = water, pressure = 6 bar)
    part  choke  : Orifice(diameter = 2 mm)
    part  vessel : Volume(volume = 500 L)
    supply.outlet -- choke.inlet
    choke.outlet -- vessel.a
    init  vessel.p = 1 bar
}
scenario first of Filling { stop at 3 s ; output every 10 ms }
LOOP
run "$work/tank.loop" --out "$work/tank.csv"
"$netloop" plot "$work/tank.csv" vessel.p choke.q --out "$here/first_model.png"
cp -r examples/bascule "$work/bascule"
(cd "$work" && "$netloop" study bascule/studies/drive.loop which_drive --quiet --report drive.html)
chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,1500 --virtual-time-budget=8000 --screenshot="$here/study.png" "file://$work/drive.html" 2>/dev/null
"$netloop" report "$work/calm_day.h5" "$work/storm_lift.h5" --title "The bridge: a calm day and a storm" --out "$work/report.html"
chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,1500 --virtual-time-budget=8000 --screenshot="$here/report.png" "file://$work/report.html" 2>/dev/null
run "$here/../../examples/crane/crane.loop" calm --tolerance 1e-5 --out "$work/crane.h5"
"$netloop" plot "$work/crane.h5" crane.boom.boom.angle:deg crane.boom.fold crane.slewing.angle / crane.load.y crane.load.tip.y crane.load.ground / crane.power.line1.p crane.boom.luffing.head_p crane.boom.folding.rod_p / crane.power.given crane.lost --title "One stop log, from the rack into its groove" --out "$here/crane.png"
