"""Keeps a correct live copy of a query with Python's standard library, through broken connections and restarts.

    UPROAR_URL=http://127.0.0.1:4680 UPROAR_KEY=… python3 live.py 'balloons?limit=none'

Prints the copy, the documents by id, as a line of JSON after each event. Sends each line of its standard input, such as
{"id": "c-1", "writes": [{"merge": "balloons/bl-17", "data": {"altitude": 420}}]}, as a commit; the store applies a
commit with the same id once, so the program repeats it until there is an answer.
"""

import http.client
import json
import os
import sys
import threading
import time
import urllib.error
import urllib.request

URL, KEY = os.environ["UPROAR_URL"], os.environ["UPROAR_KEY"]

# What a broken connection raises, also in the middle of an event.
BROKEN = (OSError, http.client.HTTPException)

# After these, the same request can succeed later. All other problems are final.
PASSING = (408, 429, 500, 502, 503, 504)


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
        if not line.endswith(b"\n"):
            return
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


def ask(path, headers, body=None):
    """Makes a request. Ends the program when the store refuses it for good."""
    headers = {"Authorization": "Bearer " + KEY, **headers}
    try:
        # A comment comes every 15 s; where nothing comes for longer, the connection is dead.
        return urllib.request.urlopen(urllib.request.Request(URL + path, body, headers), timeout=40)
    except urllib.error.HTTPError as error:
        if error.code in PASSING:
            raise OSError(error.code, "The store is busy") from error
        raise


def watch(query):
    state, last_id = {}, None
    while True:
        headers = {"Accept": "text/event-stream"}
        if last_id:
            headers["Last-Event-ID"] = last_id
        try:
            with ask("/v1/data/" + query, headers) as response:
                for name, event_id, data in events(response):
                    if name == "end" and data["status"] not in (401, 503):
                        sys.exit(json.dumps(data))
                    if name in ("result", "reset"):
                        state = {document["id"]: document for document in data["documents"]}
                    elif name == "change":
                        apply(state, data["patch"])
                    if data is not None and name != "end":
                        print(json.dumps(state), flush=True)
                    last_id = event_id or last_id
        except urllib.error.HTTPError as error:
            sys.exit(error.read().decode())
        except BROKEN as error:
            print(error, file=sys.stderr)
        time.sleep(1)


def send_commits():
    for line in sys.stdin:
        while True:
            try:
                ask("/v1/commits", {"Content-Type": "application/json"}, line.encode()).close()
                break
            except urllib.error.HTTPError as error:
                print(error.read().decode(), file=sys.stderr)
                break
            except BROKEN:
                time.sleep(1)


threading.Thread(target=send_commits, daemon=True).start()
watch(sys.argv[1])
