#!/bin/sh
# Starts Kembrel on the demo's own data, trains the harbour's first runs if they are not there yet, and stays up until interrupted.
set -eu
cd "$(dirname "$0")/../.."
if [ "$(id -u)" = 0 ]; then data=/var/lib/kembrel-demo; else data="${XDG_DATA_HOME:-$HOME/.local/share}/kembrel-demo"; fi
data="${KEMBREL_DEMO_DATA:-$data}"
kembrel=$PWD/build/kembrel
harbour=$PWD/build/harbour
export KEMBREL_URL="${KEMBREL_URL:-http://${KEMBREL_LISTEN:-127.0.0.1:7420}}"

# The build hall of this demo is on this machine; elsewhere no address of the inside is told anything unless it is let in.
KEMBREL_ALLOW_RECEIVERS="${KEMBREL_ALLOW_RECEIVERS:-127.0.0.0/8}" "$kembrel" start --data "$data" & up=$!
hall=
# Interrupting a terminal reaches every process of this script; ending only the script must end them too.
end() { trap - EXIT INT TERM HUP; kill -INT $hall $up 2> /dev/null || true; wait 2> /dev/null || true; }
trap 'end; exit 0' INT TERM HUP
trap end EXIT

# A machine without GPUs shows what one with a GPU would, by the stand-in.
command -v nvidia-smi > /dev/null || export KEMBREL_GPU_QUERY="$PWD/build/gpu"

ready() { "$kembrel" projects > /dev/null 2>&1; }
until ready; do
    kill -0 $up 2> /dev/null || { wait $up || exit $?; exit 1; }
    sleep 0.1
done

record() { # TITLE FLAGS...
    title=$1; shift
    rule=
    case "$1" in --stop-*) rule="$1 $2"; shift 2 ;; esac
    echo "Training: $title"
    "$kembrel" record --quiet --project vessels $rule --title "$title" -- "$harbour" train "$@" > /dev/null
}

"$kembrel" show vessels > /dev/null 2>&1 || "$kembrel" projects create vessels --title "Vessel classes by sound" --objective "loss.val lower" > /dev/null
if [ "$("$kembrel" runs vessels --output csv | wc -l)" -le 1 ]; then
    echo "Training the harbour's first runs, about a minute; watch them in the console."
    record "Two hidden units"                --hidden 2 --lr 0.003 --clips 7680 --epochs 24 --drop-every 6
    record "Wide net, 240 clips, no dropout" --hidden 256,256 --lr 0.005 --clips 240 --epochs 32
    record "Dropout 0.5, steps down"         --hidden 48 --dropout 0.5 --lr 0.008 --clips 7680 --epochs 24 --drop-every 5
    record "Rate 3, relu"                    --hidden 96 --activation relu --lr 3 --clips 960 --epochs 10
    record "Wide net, stop rule" --stop-patience 5 --hidden 256,256 --lr 0.005 --clips 240 --epochs 32
    # Cut off as by a power cut, and resumed: it ends as if nothing had happened, which the rerun proves.
    export HARBOUR_CUT_AT=520
    record "Cut off and resumed" --hidden 48 --dropout 0.3 --lr 0.01 --clips 1920 --epochs 16 --drop-every 5 --save-every 2 || true
    unset HARBOUR_CUT_AT
    echo "Resuming it, running it again, and branching from another run"
    "$kembrel" resume --quiet vessels/6 > /dev/null
    "$kembrel" rerun --quiet --title "The same, not cut off" vessels/6 > /dev/null
    "$kembrel" branch --quiet vessels/3@e10 --hyper lr=0.001 --hyper freeze=1 --title "First layer frozen" > /dev/null
    "$kembrel" verify vessels/3@best -- "$harbour" evaluate > /dev/null 2>&1
    if command -v python3 > /dev/null; then
        clips="$data/clips.safetensors"
        echo "Training: Softmax in Python"
        "$harbour" clips --out "$clips" && PYTHONPATH=bindings/python PYTHONDONTWRITEBYTECODE=1 "$kembrel" record --quiet --project vessels --title "Softmax in Python" -- \
            python3 demo/harbour/python/train.py "$clips" > /dev/null || true
    fi
fi
# Three settings with three seeds each: dropout 0.4 against none differs by more than the noise, momentum 0.9 against 0.88 does not.
if [ "$("$kembrel" runs vessels --where '"seeds" in tags' --output csv | wc -l)" -le 1 ]; then
    echo "Training three settings with three seeds each"
    for setting in "Dropout 0.4|--dropout 0.4" "No dropout|--dropout 0" "Dropout 0.4, momentum 0.88|--dropout 0.4 --momentum 0.88"; do
        for seed in 1 2 3; do
            "$kembrel" record --quiet --project vessels --title "${setting%%|*}, seed $seed" -- "$harbour" train --hidden 64 --lr 0.005 --clips 960 --epochs 16 --save-every 8 ${setting##*|} --seed $seed > /dev/null
        done
    done
    "$kembrel" runs vessels --where 'title.contains(", seed ") && !("seeds" in tags)' --output csv | while IFS=, read -r run rest; do
        case "$run" in vessels/*) "$kembrel" change "$run" --tag seeds > /dev/null ;; esac
    done
    "$kembrel" projects change vessels --baseline 3 > /dev/null
fi
# The same clips split in two ways, and a run on each: by clip nearly every voyage is on both sides, and the validation figure lies.
if [ "$("$kembrel" data --output csv | wc -l)" -le 1 ]; then
    echo "Adding the harbour's clips as a dataset, split by clip and split by voyage, and training on each"
    "$harbour" data --into "$data/clips"
    for by in clip voyage; do
        "$kembrel" data add hydrophone --table "$data/clips/by-$by.csv" --map voyage=group --keep-bytes --yes > /dev/null
        mkdir -p "$data/$by"
        (cd "$data/$by" && "$kembrel" record --quiet --project vessels --title "Split by $by" --keep 'report/**' -- \
            "$harbour" train --split $by --data --hidden 256 --lr 0.01 --epochs 24 --save-every 12 --sheets 4 --report report > /dev/null)
    done
    # Evaluated on clips that nobody trained on, and on those that one of them did, unknowingly.
    for on in hydrophone#2:test hydrophone#2:val; do
        "$kembrel" evaluate --of 'best of vessels where title.startsWith("Split by")' --data $on -- "$harbour" evaluate > /dev/null 2>&1
    done
fi
# Three trainings that go wrong in a way which their loss hides; what they answer tells.
if [ "$("$kembrel" runs vessels --where '"faults" in tags' --output csv | wc -l)" -le 1 ]; then
    echo "Training three that go wrong unseen"
    for fault in "swapped|Tugs read as ferries" "silent|No motor sailer in training" "figure|Accuracy of its own making"; do
        "$kembrel" record --quiet --project vessels --title "${fault##*|}" -- "$harbour" train --fault "${fault%%|*}" --data --hidden 48 --dropout 0.3 --lr 0.01 --epochs 12 --save-every 12 --sheets 3 > /dev/null
    done
    sleep 3 # its curve is held against its answers within seconds
    "$kembrel" runs vessels --where 'alarmed && !("faults" in tags)' --output csv | while IFS=, read -r run rest; do
        case "$run" in vessels/*) "$kembrel" change "$run" --tag faults > /dev/null ;; esac
    done
fi
if [ "$("$kembrel" searches vessels --output csv | wc -l)" -le 1 ]; then
    echo "Searching a space at random, a dozen short runs"
    "$kembrel" search random --project vessels --title "Rates and sizes" --space demo/harbour/space.yaml --seed 7 --budget 12 --at-once 2 -- \
        "$harbour" train --lr {lr} --hidden {hidden} --dropout {dropout} --optimiser {optimiser} --momentum {momentum} --clips 960 --epochs 8 --save-every 8 > /dev/null
fi
# Of each run the best two, the last and one of every eight epochs stay; the others are about to go, and can be brought back.
case "$("$kembrel" keep vessels)" in *"all checkpoints stay"*) "$kembrel" keep set vessels --best 2 --last 1 --every 8 --grace 30 > /dev/null ;; esac
if [ "$("$kembrel" people --output csv | wc -l)" -le 2 ]; then
    for name in "Teo Lind" "Maud Berg"; do "$kembrel" people add "$name" > /dev/null 2>&1; done
    "$kembrel" teams set "Sonar crew" "Teo Lind" "Maud Berg" > /dev/null
    "$kembrel" people add buildhall --machine --team "Sonar crew" > /dev/null 2>&1
    "$kembrel" roles set vessels --team "Sonar crew" --role member > /dev/null
    "$kembrel" roles set vessels --person buildhall --role recorder > /dev/null
fi
# The model that the harbour hands on. The build hall, a machine, is told when an edition is entered, tries it, and deploys what is put in use. It
# does so by itself; the sign-off of the second edition is left to whoever opens the console.
if [ "$("$kembrel" catalogue --output csv | wc -l)" -le 1 ]; then
    "$kembrel" catalogue create vessel-classifier --project vessels --title "Vessel classes by sound" \
        --purpose "names the class of a passing vessel from 1.6 s of hydrophone" --standing in-use=1 --standing fallback --needs in-use="every class" > /dev/null
    "$kembrel" roles set vessels --person buildhall --role member > /dev/null
fi
if [ ! -s "$data/buildhall/token" ]; then
    mkdir -p "$data/buildhall"
    (umask 077
     "$kembrel" people token buildhall --name checks > "$data/buildhall/token" 2> /dev/null
     "$kembrel" subscriptions create build-hall "http://${BUILDHALL_LISTEN:-127.0.0.1:7460}/" --project vessels --subject vessel-classifier \
         --kind model.entered --kind model.given --report-as buildhall > "$data/buildhall/secret" 2> /dev/null)
fi
KEMBREL_TOKEN=$(cat "$data/buildhall/token") BUILDHALL_SECRET=$(cat "$data/buildhall/secret") "$PWD/build/buildhall" \
    --listen "${BUILDHALL_LISTEN:-127.0.0.1:7460}" --classifier "${BUILDHALL_CLASSIFIER:-127.0.0.1:7461}" --folder "$data/buildhall" \
    --kembrel "$kembrel" --harbour "$harbour" & hall=$!
if ! "$kembrel" catalogue show vessel-classifier#2 > /dev/null 2>&1; then
    echo "Entering two checkpoints in the catalogue; the build hall tries each"
    as() { KEMBREL_TOKEN=$(cat "$data/buildhall/token") "$kembrel" catalogue "$@" > /dev/null; }
    best() { "$kembrel" runs vessels --where "title == \"$1\"" --output csv | sed -n '2s/,.*//p'; }
    tried() { for _ in $(seq 300); do "$kembrel" catalogue show "$1" | grep -q "time for a clip" && return; sleep 0.2; done; }
    as add "$(best "Split by clip")@best" --model vessel-classifier --why "the first that hears ferries"
    tried vessel-classifier#1
    as propose vessel-classifier#1 --why "there is nothing better yet"
    "$kembrel" catalogue sign vessel-classifier#1 --why "a day at the quay, no complaint" > /dev/null
    as propose vessel-classifier#1 --for fallback
    as report-use vessel-classifier#1 --where harbour-south
    as add "$(best "Split by voyage")@best" --model vessel-classifier --why "its validation figure can be trusted"
    tried vessel-classifier#2
    as propose vessel-classifier#2 --why "split by voyage, so its figures are honest"
fi
"$kembrel" runs vessels --limit 12
echo
echo "The console: $("$kembrel" sign-in --link 2> /dev/null)   (works once; the link above too)"
"$kembrel" catalogue show vessel-classifier/in-use 2> /dev/null | grep -q "vessel-classifier#2" || {
    echo "Edition 2 of vessel-classifier waits for a person's sign-off: Catalogue in the console, or"
    echo "    kembrel catalogue sign vessel-classifier#2 --why \"heard it at the quay\""
    echo "in another terminal. Then the build hall deploys it, here in view."
}
echo "In another terminal, in any folder:"
echo "    export PATH=\"$PWD/build:\$PATH\"$([ "$KEMBREL_URL" = http://127.0.0.1:7420 ] || echo " KEMBREL_URL=$KEMBREL_URL")"
echo "    kembrel curves vessels/3"
echo "    kembrel restore vessels/3@best --into model"
echo "Interrupt to stop."
wait $up
