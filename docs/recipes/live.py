"""Keeps a correct live copy of a query with Python's standard library, through broken connections.

    UPROAR_URL=http://127.0.0.1:4680 UPROAR_KEY=… python3 live.py 'balloons?limit=none'

Prints the copy, the documents by id, as a line of JSON after each event.
"""

import json
import os
import sys
import time
import urllib.request


def steps(pointer):
    """The parts of a JSON Pointer (RFC 6901)."""
    return [part.replace("~1", "/").replace("~0", "~") for part in pointer.split("/")[1:]]


def apply(state, patch):
    """Applies a JSON Patch (RFC 6902) of add, remove and replace in place."""
    for operation in patch:
        *parents, last = steps(operation["path"])
        target = state
        for part in parents:
            target = target[int(part) if isinstance(target, list) else part]
        if isinstance(target, list):
            last = len(target) if last == "-" else int(last)
        if operation["op"] == "remove":
            del target[last]
        elif operation["op"] == "add" and isinstance(target, list):
            target.insert(last, operation["value"])
        else:
            target[last] = operation["value"]


def events(response):
    """The events of a stream: name, id and data; data is None where only the id moves on."""
    name, event_id, data = "", None, None
    for line in response:
        field, _, value = line.decode().rstrip("\n").partition(": ")
        if field == "event":
            name = value
        elif field == "id":
            event_id = value
        elif field == "data":
            data = json.loads(value)
        elif field == "":
            yield name, event_id, data
            name, event_id, data = "", None, None


def main(query):
    state, last_id = {}, None
    while True:
        headers = {"Authorization": "Bearer " + os.environ["UPROAR_KEY"], "Accept": "text/event-stream"}
        if last_id:
            headers["Last-Event-ID"] = last_id
        request = urllib.request.Request(os.environ["UPROAR_URL"] + "/v1/data/" + query, headers=headers)
        try:
            # A comment comes every 15 s; where nothing comes for longer the connection is dead.
            with urllib.request.urlopen(request, timeout=40) as response:
                for name, event_id, data in events(response):
                    if name in ("result", "reset"):
                        state = {document["id"]: document for document in data["documents"]}
                    elif name == "change":
                        apply(state, data["patch"])
                    if data is not None and name != "end":
                        print(json.dumps(state), flush=True)
                    last_id = event_id or last_id
        except urllib.error.HTTPError as error:
            sys.exit(error.read().decode())
        except OSError as error:
            print(error, file=sys.stderr)
        time.sleep(1)


main(sys.argv[1])
