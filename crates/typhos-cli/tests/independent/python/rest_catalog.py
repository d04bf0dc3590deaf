"""A catalog server for tests: the open protocol in front of an independent library, which checks and makes every change.

Arguments: a folder for everything, for every how manyth commit the answer is lost although it was made (0: none), and, where files are
in a store, how the library reaches it (JSON), which is then said to whoever asks to be lent the credentials.
Prints the port it listens on.
"""

import json
import sys
import urllib.parse
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Lock

from pydantic import TypeAdapter
from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.exceptions import CommitFailedException, NamespaceAlreadyExistsError, NoSuchTableError
from pyiceberg.exceptions import TableAlreadyExistsError
from pyiceberg.schema import Schema
from pyiceberg.table.update import TableRequirement, TableUpdate

FOLDER, LOSES = sys.argv[1], int(sys.argv[2])
TOKEN = "a-token-that-nobody-prints"
STORE = json.loads(sys.argv[3]) if len(sys.argv) > 3 else {}
CATALOG = SqlCatalog("rest", **{"uri": f"sqlite:///{FOLDER}/rest.db", "warehouse": f"file://{FOLDER}/warehouse", **STORE})
REQUIREMENTS = TypeAdapter(tuple[TableRequirement, ...])
UPDATES = TypeAdapter(tuple[TableUpdate, ...])
LOCK = Lock()
COMMITS = 0


def table_json(table, lends):
    found = {"metadata-location": table.metadata_location, "metadata": json.loads(table.metadata.model_dump_json())}
    if STORE and lends:
        # Where the store is, is said of the table; who may write to it, of what is below a place.
        keys = {key: STORE[key] for key in ("s3.access-key-id", "s3.secret-access-key")}
        found["config"] = {"s3.endpoint": STORE["s3.endpoint"], "client.region": "us-east-1", "s3.access-key-id": "wrong"}
        found["storage-credentials"] = [{"prefix": "s3://", "config": {}}, {"prefix": table.metadata.location, "config": keys}]
    return found


class Answers(BaseHTTPRequestHandler):
    def log_message(self, *_):
        pass

    def answer(self, status, body):
        text = json.dumps(body).encode()
        self.send_response(status)
        self.send_header("content-type", "application/json")
        self.send_header("content-length", str(len(text)))
        self.end_headers()
        self.wfile.write(text)

    def wrong(self, status, message):
        self.answer(status, {"error": {"message": message, "type": "Wrong", "code": status}})

    def parts(self):
        path = urllib.parse.urlsplit(self.path).path
        return [urllib.parse.unquote(part) for part in path.strip("/").split("/")]

    def body(self):
        return self.rfile.read(int(self.headers.get("content-length") or 0))

    def lends(self):
        return self.headers.get("x-iceberg-access-delegation") == "vended-credentials"

    def is_known(self):
        if self.headers.get("authorization") == f"Bearer {TOKEN}":
            return True
        self.wrong(401, "who are you?")
        return False

    def do_GET(self):
        with LOCK:
            self.get(self.parts())

    def do_POST(self):
        body = self.body()
        with LOCK:
            self.post(self.parts(), body)

    def get(self, parts):
        if not self.is_known():
            return
        match parts:
            case ["v1", "config"]:
                self.answer(200, {"defaults": {}, "overrides": {"prefix": "ferries"}})
            case ["v1", "ferries", "namespaces", space, "tables", name]:
                try:
                    table = CATALOG.load_table((*space.split("\x1f"), name))
                    self.answer(200, table_json(table, self.lends()))
                except NoSuchTableError as error:
                    self.wrong(404, str(error))
            case _:
                self.wrong(404, "no such page")

    def post(self, parts, body):
        with open(f"{FOLDER}/posts", "a") as posts:
            posts.write("/".join(parts) + "\n")
        if parts == ["v1", "oauth", "tokens"]:
            form = dict(urllib.parse.parse_qsl(body.decode()))
            if (form["client_id"], form["client_secret"]) == ("ferry", "a-secret"):
                return self.answer(200, {"access_token": TOKEN, "token_type": "bearer"})
            return self.answer(401, {"error": "invalid_client", "error_description": "no such client"})
        if not self.is_known():
            return
        body = json.loads(body)
        match parts:
            case ["v1", "ferries", "namespaces"]:
                try:
                    CATALOG.create_namespace(tuple(body["namespace"]))
                    self.answer(200, body)
                except NamespaceAlreadyExistsError as error:
                    self.wrong(409, str(error))
            case ["v1", "ferries", "namespaces", space, "tables"]:
                self.stage((*space.split("\x1f"), body["name"]), body)
            case ["v1", "ferries", "namespaces", space, "tables", name]:
                self.commit((*space.split("\x1f"), name), body)
            case _:
                self.wrong(404, "no such page")

    def stage(self, name, body):
        assert body["stage-create"], "tables appear with their rows"
        if CATALOG.table_exists(name):
            return self.wrong(409, "it is there")
        staged = CATALOG._create_staged_table(name, Schema.model_validate(body["schema"]))
        self.answer(200, table_json(staged, self.lends()))

    def commit(self, name, body):
        global COMMITS
        requirements = REQUIREMENTS.validate_python(body["requirements"])
        updates = UPDATES.validate_python(body["updates"])
        try:
            table = CATALOG.load_table(name)
        except NoSuchTableError:
            table = CATALOG._create_staged_table(name, Schema())
        try:
            done = CATALOG.commit_table(table, requirements, updates)
        except (CommitFailedException, TableAlreadyExistsError) as error:
            return self.wrong(409, str(error))
        COMMITS += 1
        if LOSES and COMMITS % LOSES == 0:
            return self.wrong(502, "the gateway lost the answer")
        self.answer(200, {"metadata-location": done.metadata_location, "metadata": json.loads(done.metadata.model_dump_json())})


server = ThreadingHTTPServer(("127.0.0.1", 0), Answers)
print(server.server_address[1], flush=True)
server.serve_forever()
