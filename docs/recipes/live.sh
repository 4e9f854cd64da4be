#!/bin/sh
# Keeps a correct live copy of a query with curl and jq, through broken connections and restarts of this program.
#
#   UPROAR_URL=http://127.0.0.1:4680 UPROAR_KEY=… UPROAR_COPY=copy sh live.sh 'balloons?limit=none'
#
# After each event the folder of the copy has the documents by id in state.json; they are also printed as a line of JSON.
# Each line of the standard input is sent as a commit, such as
#   {"id": "c-1", "writes": [{"merge": "balloons/bl-17", "data": {"altitude": 420}}]}
# The store applies a commit with the same id once, so it is sent until there is an answer.
set -eu
query=$1
copy=${UPROAR_COPY:-copy}
mkdir -p "$copy"

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
reduce $event.patch[] as $op ($state; walk_to($op.path | steps; $op))'

# The copy and its resume point are one file, so that a stop in between leaves no gap.
[ -s "$copy/kept.json" ] || echo '{"id":"","state":{}}' >"$copy/kept.json"

take() { # event id
  case $1 in
  result | reset) filter='[$event.documents[] | {(.id): .}] | add // {}' ;;
  change) filter=$apply ;;
  end)
    # Two problems pass: the store stops (503), and a token has expired (401). All others are final.
    jq -e '.status == 503 or .status == 401' "$copy/event.json" >/dev/null && return 0
    cat "$copy/event.json" >&2
    : >"$copy/refused"
    return 1
    ;;
  *) return 0 ;;
  esac
  jq -c --arg id "$2" --slurpfile events "$copy/event.json" \
    "\$events[0] as \$event | .state as \$state | {id: \$id, state: ($filter)}" "$copy/kept.json" >"$copy/next.json"
  mv "$copy/next.json" "$copy/kept.json"
  jq -c .state "$copy/kept.json" | tee "$copy/state.json"
}

send_commits() {
  while IFS= read -r commit; do
    while :; do
      status=$(curl -s -o "$copy/answer" -w '%{http_code}' --max-time 20 -H "Authorization: Bearer $UPROAR_KEY" \
        -H 'Content-Type: application/json' --data-binary "$commit" "$UPROAR_URL/v1/commits") || status=000
      case $status in
      000 | 408 | 429 | 5*) sleep 1 ;;
      2*) break ;;
      *)
        cat "$copy/answer" >&2
        break
        ;;
      esac
    done
  done
}

# A shell gives commands in the background no input; this keeps it.
exec 3<&0
send_commits <&3 &
trap 'kill $! 2>/dev/null || true' EXIT
rm -f "$copy/refused"

while [ ! -e "$copy/refused" ]; do
  # --fail-with-body writes the problem; a stream on which nothing arrives for 40 s is dead.
  curl -sN --fail-with-body --speed-limit 1 --speed-time 40 -H "Authorization: Bearer $UPROAR_KEY" \
    -H 'Accept: text/event-stream' -H "Last-Event-ID: $(jq -r .id "$copy/kept.json")" -w '\nstatus %{http_code}\n' \
    "$UPROAR_URL/v1/data/$query" |
    {
      event='' id='' data=''
      while IFS= read -r line; do
        case $line in
        'event: '*) event=${line#event: } ;;
        'id: '*) id=${line#id: } ;;
        'data: '*) data=${line#data: } ;;
        '{'*) problem=$line ;;
        'status 408' | 'status 429' | 'status 5'*) ;;
        'status 4'*)
          printf '%s\n' "${problem:-$line}" >&2
          : >"$copy/refused"
          ;;
        '')
          if [ -n "$data" ]; then
            printf '%s\n' "$data" >"$copy/event.json"
            take "$event" "$id" || break
          fi
          event='' id='' data=''
          ;;
        esac
      done
    } || true
  [ -e "$copy/refused" ] || sleep 1
done
exit 1
