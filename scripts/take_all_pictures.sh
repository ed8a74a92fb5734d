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

take help --points 9 -- eager-kestrel --help
take demo --points 9 -- eager-kestrel demo
mkdir "$home/start"
take start --points 9 --after 26 --cwd "$home/start" --shown "eager-kestrel start" -- \
    "$PWD/$python" "$PWD/scripts/typed.py" "My show|||||oxbow|8 pm|-|1||12 Mbit/s|" \
    "$PWD/.venv/bin/eager-kestrel" start
take measure -- eager-kestrel measure --practice wet-evening
take far-end --shown "" -- "$python" scripts/both_ends.py
take plan --points 9 -- eager-kestrel plan --for oxbow --upload "12 Mbit/s" \
    --reserve "video call=1.5 Mbit/s" --why
take split --points 10 -- eager-kestrel plan clay-fair --upload "12 Mbit/s"
.venv/bin/eager-kestrel plan --for oxbow --upload "12 Mbit/s" --source 720p30 \
    > "$home/plan.txt"
take rehearse --points 10 -- eager-kestrel rehearse --practice "4 Mbit/s" --seconds "10 s" --settle
take need -- eager-kestrel need oxbow --reserve "video call=1.5 Mbit/s"
.venv/bin/eager-kestrel demo --home "$home/demo-home" > "$home/filled.txt"
rm "$home/demo-home/machine.json"
export EAGER_KESTREL_HOME="$home/demo-home"
take runs-hours -- eager-kestrel runs hours --for oxbow
.venv/bin/eager-kestrel plan wheel-night --at 20:00 > "$home/plan.txt"
.venv/bin/eager-kestrel review --figure "$shots/review.png" > "$home/review.txt"
take forecast --points 12 -- eager-kestrel forecast
.venv/bin/eager-kestrel forecast --figure docs/forecast/figure.png > "$home/forecast.txt"
.venv/bin/eager-kestrel report --out "$home/report.html"
chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --hide-scrollbars \
    --disable-background-networking --disable-component-update --disable-sync \
    --user-data-dir="$home/browser" --window-size=1280,800 --screenshot="$shots/report.png" \
    "file://$home/report.html" > "$home/browser.txt" 2>&1
.venv/bin/eager-kestrel plan --for oxbow --upload "4 Mbit/s" --source 720p30 \
    > "$home/plan.txt"
take watch --points 13 --after 12 --shown "" -- "$python" scripts/on_the_air.py "2.6 Mbit/s" 40
"$python" scripts/take_page.py "$shots/watch-page.png" --after 18 -- \
    "$python" scripts/on_the_air.py "2.6 Mbit/s" 40 --page > "$home/page.txt"
cp "$EAGER_KESTREL_HOME/clip.mp4" "$home"
take trial --points 11 --cwd "$home" -- eager-kestrel trial clip.mp4 --bitrate "3 Mbit/s"
take encoders --points 12 --cwd "$home" -- eager-kestrel encoders --resolution 1280x720 \
    --resolution 1920x1080 --fps 60
rm "$EAGER_KESTREL_HOME/machine.json"
cp tests/tables/larkspur.html "$home"
take guides-import --points 9 --after 12 --cwd "$home" \
    --shown "eager-kestrel guides import larkspur.html --name larkspur --out guide.toml" -- "$PWD/$python" "$PWD/scripts/typed.py" "stereo|" \
    "$PWD/.venv/bin/eager-kestrel" guides import larkspur.html --name larkspur --out guide.toml
take check --points 10 -- eager-kestrel check --for oxbow --for gatepost --bitrate "6 Mbit/s" \
    --resolution 1920x1080 --fps 60 --keyframes 250frames --rate-control variable \
    --audio-bitrate "128 kbit/s" --upload "8 Mbit/s"
