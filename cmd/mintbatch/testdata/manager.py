"""A manager that misbehaves: manager.py MODE CERTIFICATE KEY prints its port."""
import gzip, http.server, json, ssl, sys, time

mode = sys.argv[1]
EVIL = "x\x1b[2J\x1b]0;owned\x07\u202e\u009b31m\nmint 300 done"
LEDGER = "8e15d4bd-51da-5d5b-aa6f-62aac0a6c353"


def machine(number, ours, ledger=LEDGER):
    """A machine of which every text is evil."""
    name = "bms-%d" % number + EVIL
    told = {"id": "8e15d4bd-51da-5d5b-aa6f-%012d" % number, "name": name, "host": EVIL, "store": EVIL, "power": "on", "display": EVIL, "console": [EVIL], "files": [EVIL],
            "firmware": EVIL, "adapters": [{"network": EVIL, "mac": EVIL, "model": EVIL}],
            "report": {"hostname": EVIL, "fqdn": EVIL, "addresses": {EVIL: [EVIL]}, "logins": [EVIL], "dns": [EVIL], "instance": EVIL, "machine_id": EVIL,
                       "host_key": EVIL, "timezone": EVIL, "finished": True, "errors": [EVIL], "partial": EVIL}}
    if ours:
        told["mark"] = {"ledger": ledger, "key": "quay/" + name, "generation": 1, "run": EVIL, "folder": EVIL, "stage": "made", "owner": EVIL, "notes": EVIL, "until": "2020-01-01",
                        "labels": {EVIL: EVIL}, "fingerprint": EVIL,
                        "spec": {"preset": EVIL, "template": EVIL, "clone": {"template": EVIL, "kind": EVIL, "host": EVIL, "store": EVIL, "folder": EVIL}, "shape": {"disks": [{"size": "1GiB", "store": EVIL, "kind": EVIL}]},
                                 "adapters": [{"network": EVIL, "mac": EVIL, "search": [EVIL]}], "guest": {"answers": EVIL, "hostname": EVIL, "domain": EVIL, "login": EVIL, "password": EVIL, "keys": [EVIL], "timezone": EVIL, "locale": EVIL},
                                 "mark": {"owner": EVIL, "notes": EVIL, "until": "2020-01-01", "labels": {EVIL: EVIL}}, "power": EVIL, "checkpoint": EVIL}}
    return told


EMPTY = {"hosts": [], "stores": [], "networks": [], "folders": [], "templates": [], "machines": []}


class Manager(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, *_):
        pass

    def answer(self, status, body=b"", headers=()):
        self.send_response(status)
        for name, value in headers:
            self.send_header(name, value)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def do_GET(self):
        if mode == "redirect":
            self.answer(307, headers=[("Location", "http://127.0.0.1:%s/plain" % sys.argv[4])])
        elif mode == "bomb":
            self.answer(200, gzip.compress(b'{"hosts":[' + b" " * (300 << 20) + b"]}", 1), [("Content-Encoding", "gzip")])
        elif mode == "deep":
            self.answer(200, b'{"hosts":' + b"[" * 100000)
        elif mode == "many":
            self.answer(200, b'{"hosts":[' + b"{}," * 2000000 + b"{}]}")
        elif mode == "later":
            self.answer(429, headers=[("Retry-After", "86400")])
        elif mode == "silent":
            time.sleep(3600)
        elif mode == "drip":
            self.send_response(200)
            self.send_header("Content-Length", "1000000")
            self.end_headers()
            while True:
                self.wfile.write(b" ")
                self.wfile.flush()
                time.sleep(0.2)
        elif mode == "evil":
            told = dict(EMPTY, hosts=[{"name": EVIL, "cpus": 1, "memory": "1GiB", "note": EVIL}], networks=[EVIL],
                        stores=[{"name": EVIL, "kind": EVIL, "hosts": [EVIL]}], folders=[EVIL], inactive=[EVIL], kept=[{"id": "8e15d4bd-51da-5d5b-aa6f-62aac0a6c399", "name": EVIL, "files": [EVIL]}],
                        templates=[{"name": "deb12-base", "host": EVIL, "store": EVIL, "format": EVIL, "firmware": EVIL, "notes": EVIL, "hosts": [EVIL], "problem": EVIL, "remark": EVIL, "remarks": [EVIL]}],
                        machines=[machine(1, True), machine(2, True), machine(3, False)])
            for one in told["machines"]:
                if self.path.endswith("/machines/" + one["id"]):
                    told = one
            self.answer(200, json.dumps(told, ensure_ascii=False).encode(), [("Content-Type", "application/json")])
        elif mode == "refuse":
            self.answer(403, json.dumps({"title": "no", "detail": EVIL}, ensure_ascii=False).encode())


server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Manager)
context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
context.load_cert_chain(sys.argv[2], sys.argv[3])
server.socket = context.wrap_socket(server.socket, server_side=True)
print(server.server_address[1], flush=True)
server.serve_forever()
