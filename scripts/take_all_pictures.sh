#!/usr/bin/env bash
# Retakes every picture of docs/screenshots from the demo data. Run it from the checkout, with the
# package installed in .venv; CONTRIBUTING says what the system needs.
set -euo pipefail
cd "$(dirname "$0")/.."
home=$(mktemp -d)
trap 'rm -r "$home"' EXIT
export EAGER_KESTREL_HOME="$home"
python=.venv/bin/python
shots=docs/screenshots
take() { "$python" scripts/take_picture.py "$shots/$1.png" "${@:2}"; }

take help --points 10 -- eager-kestrel --help
take demo --points 6 -- eager-kestrel demo
take measure -- eager-kestrel measure --practice wet-evening
take far-end -- "$python" scripts/both_ends.py
take plan --points 9 -- eager-kestrel plan --for oxbow --upload "12 Mbit/s" \
    --reserve "video call=1.5 Mbit/s" --why
take split --points 9 -- eager-kestrel plan glaze-talk --upload "12 Mbit/s"
take rehearse --points 10 -- eager-kestrel rehearse --practice "5 Mbit/s" --seconds "10 s" --settle
.venv/bin/eager-kestrel demo --out "$home/demo" > "$home/demo.txt"
take check-recording --points 11 --cwd "$home/demo" -- eager-kestrel check arrived.flv --for oxbow \
    --for gatepost
.venv/bin/eager-kestrel check "$home/demo/arrived.flv" --for oxbow \
    --figure "$shots/recording-figure.png" > "$home/check.txt"
take need -- eager-kestrel need oxbow --reserve "video call=1.5 Mbit/s"
take nearest -- eager-kestrel nearest oxbow --practice "41 ms, 18 ms, 73 ms"
"$python" scripts/make_history.py "$home/history.json"
.venv/bin/eager-kestrel runs forget --all
.venv/bin/eager-kestrel runs import "$home/history.json"
take runs-hours -- eager-kestrel runs hours --for oxbow
take forecast --points 12 -- eager-kestrel forecast wheel-night --around 20:00
.venv/bin/eager-kestrel plan --for oxbow --around 12:00 > "$home/plan.txt"
.venv/bin/eager-kestrel forecast --around 12:00 --figure "$shots/forecast-figure.png" \
    > "$home/forecast.txt"
"$python" scripts/make_clip.py "$home/clip.mp4"
take trial --points 11 --cwd "$home" -- eager-kestrel trial clip.mp4 --bitrate "3 Mbit/s"
take encoders --points 12 --cwd "$home" -- eager-kestrel encoders --picture 1280x720 \
    --picture 1920x1080 --fps 60
rm "$home/machine.json"
take guides -- eager-kestrel guides list
cp tests/tables/millrace.html "$home"
take guides-import --cwd "$home" -- eager-kestrel guides import millrace.html --name millrace \
    --out .
take check --points 10 -- eager-kestrel check --for oxbow --for gatepost --bitrate "6 Mbit/s" \
    --picture 1920x1080 --fps 60 --keyframes 250frames --rate-control variable \
    --audio-bitrate "128 kbit/s" --uplink "8 Mbit/s"
