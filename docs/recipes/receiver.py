"""Receives the changes that a hook delivers, and keeps a copy of each document in a file.

    UPROAR_SECRET=whsec_… python3 receiver.py 8080 copy.json

It checks the signature (Standard Webhooks), ignores what it has, and answers when the copy is on disk.
"""
import base64, hashlib, hmac, json, os, sys, time
from http.server import BaseHTTPRequestHandler, HTTPServer

SECRET = base64.b64decode(os.environ["UPROAR_SECRET"].removeprefix("whsec_"))
PORT, FILE = int(sys.argv[1]), sys.argv[2]
copy = json.load(open(FILE)) if os.path.exists(FILE) else {}


def is_signed(headers, body):
    if abs(time.time() - int(headers.get("webhook-timestamp", 0))) > 300:
        return False
    signed = f'{headers["webhook-id"]}.{headers["webhook-timestamp"]}.'.encode() + body
    expected = "v1," + base64.b64encode(hmac.new(SECRET, signed, hashlib.sha256).digest()).decode()
    return any(hmac.compare_digest(given, expected) for given in headers["webhook-signature"].split(" "))


class Receiver(BaseHTTPRequestHandler):
    def do_POST(self):
        body = self.rfile.read(int(self.headers["content-length"]))
        if not is_signed(self.headers, body):
            return self.send_error(401)
        event = json.loads(body)
        document, seq = event.get("subject"), event["seq"]
        # A delivery can come twice. The seq of a document only grows.
        if document and seq > copy.get(document, {"seq": 0})["seq"]:
            copy[document] = {"seq": seq, "data": (event["data"]["after"] or {}).get("data")}
            with open(FILE + ".new", "w") as file:
                json.dump(copy, file)
                os.fsync(file.fileno())
            os.replace(FILE + ".new", FILE)
        self.send_response(204)
        self.end_headers()


HTTPServer(("127.0.0.1", PORT), Receiver).serve_forever()
