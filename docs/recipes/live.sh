#!/bin/sh
# Keeps a correct live copy of a query with curl and jq, through broken connections.
#
#   UPROAR_URL=http://127.0.0.1:4680 UPROAR_KEY=… sh live.sh 'balloons?limit=none' copy
#
# After each event copy/state.json holds the documents by id, and a line says so.
set -eu
query=$1
copy=$2
mkdir -p "$copy"
[ -s "$copy/state.json" ] || echo '{}' >"$copy/state.json"
[ -e "$copy/id" ] || : >"$copy/id"

# A JSON Patch (RFC 6902) of add, remove and replace, applied to the copy.
# shellcheck disable=SC2016
apply='
def steps: split("/")[1:] | map(gsub("~1"; "/") | gsub("~0"; "~"));
def key($text): if type == "array" and $text != "-" then ($text | tonumber) else $text end;
def change($op; $key):
  if $op.op == "remove" then del(.[key($key)])
  elif $op.op == "add" and type == "array" then
    (if $key == "-" then length else key($key) end) as $i | .[:$i] + [$op.value] + .[$i:]
  else .[key($key)] = $op.value end;
def walk_to($steps; $op):
  if ($steps | length) == 1 then change($op; $steps[0])
  else .[key($steps[0])] |= walk_to($steps[1:]; $op) end;
reduce $event.patch[] as $op (.; walk_to($op.path | steps; $op))'

take() { # event
  case $1 in
  result | reset) jq -c '[.documents[] | {(.id): .}] | add // {}' "$copy/event.json" >"$copy/next.json" ;;
  change) jq -c --slurpfile events "$copy/event.json" "\$events[0] as \$event | $apply" "$copy/state.json" >"$copy/next.json" ;;
  *) return 0 ;;
  esac
  mv "$copy/next.json" "$copy/state.json"
  printf '%s seq %s\n' "$1" "$(jq .seq "$copy/event.json")"
}

while :; do
  curl -sN -H "Authorization: Bearer $UPROAR_KEY" -H 'Accept: text/event-stream' \
    -H "Last-Event-ID: $(cat "$copy/id")" "$UPROAR_URL/v1/data/$query" |
    {
      event='' id='' data=''
      while IFS= read -r line; do
        case $line in
        'event: '*) event=${line#event: } ;;
        'id: '*) id=${line#id: } ;;
        'data: '*) data=${line#data: } ;;
        '')
          if [ -n "$data" ]; then
            printf '%s\n' "$data" >"$copy/event.json"
            take "$event"
          fi
          # The id is saved together with the state, so that a stop in between leaves no gap.
          [ -z "$id" ] || printf '%s' "$id" >"$copy/id"
          event='' id='' data=''
          ;;
        esac
      done
    } || true
  sleep 1
done
