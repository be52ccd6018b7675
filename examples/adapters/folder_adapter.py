#!/usr/bin/env python3
"""An adapter for Morvant to copy from: a folder with a sub-folder for each version.

    morvant feed add --adapter ./folder_adapter.py "/games/old versions"

It speaks JSON-RPC 2.0, one message a line, on standard input and output; what it prints to standard error is its log.
docs/adapters.md says what each message means. For another distributor, write builds, manifest and content anew.
"""
import datetime
import hashlib
import json
import os
import shutil
import sys

CHANNEL, COMPONENT = "versions", "game"


class Refused(Exception):
    """An answer that is an error: a code of the protocol, and a sentence for the player."""

    def __init__(self, code, message):
        super().__init__(message)
        self.code, self.message = code, message


class Adapter:
    def initialize(self, p):
        self.address, self.folder = p["address"], p["folder"]
        if not os.path.isdir(self.address):
            raise Refused(-32007, "%s is not a folder" % self.address)
        return {"protocol": 1, "name": "folder-example", "title": "A folder of versions", "sign_in": "none", "channels": [{"name": CHANNEL}]}

    def files(self, version):
        """Yields path, full path and status of each file of a version, in order."""
        top = os.path.join(self.address, version)
        for here, folders, names in os.walk(top):
            folders.sort()
            for name in sorted(names):
                full = os.path.join(here, name)
                if os.path.isfile(full) and not os.path.islink(full):
                    yield os.path.relpath(full, top).replace(os.sep, "/"), full, os.stat(full)

    def mark(self, version):
        """Names what a version holds: another name as soon as that may have changed."""
        h = hashlib.sha256(version.encode())
        for path, _, info in self.files(version):
            h.update(("%s %d %d\n" % (path, info.st_size, info.st_mtime_ns)).encode())
        return h.hexdigest()[:32]

    def versions(self):
        return [name for name in sorted(os.listdir(self.address)) if os.path.isdir(os.path.join(self.address, name))]

    def builds(self, p):
        list_ = []
        for version in self.versions():
            newest = max((info.st_mtime for _, _, info in self.files(version)), default=0)
            date = datetime.datetime.fromtimestamp(newest, datetime.timezone.utc).strftime("%Y-%m-%dT%H:%M:%SZ")
            list_.append({"id": version, "label": version, "date": date, "components": [{"name": COMPONENT, "manifest": self.mark(version), "required": True}]})
        return {"builds": list_}

    def find(self, manifest):
        for version in self.versions():
            if self.mark(version) == manifest:
                return version
        raise Refused(-32005, "this version is gone, or has changed")

    def manifest(self, p):
        version, list_, done = self.find(p["manifest"]), [], 0
        for path, full, info in self.files(version):
            h = hashlib.sha256()
            with open(full, "rb") as f:
                while block := f.read(1 << 20):
                    h.update(block)
            done += info.st_size
            notify("progress", {"text": "Reading " + version, "done": done})
            modified = datetime.datetime.fromtimestamp(int(info.st_mtime), datetime.timezone.utc).strftime("%Y-%m-%dT%H:%M:%SZ")
            list_.append({
                "path": path, "size": info.st_size, "digest": "sha256:" + h.hexdigest(),
                "executable": bool(info.st_mode & 0o111), "modified": modified,
            })
        return {"files": list_}

    def content(self, p):
        version, places = self.find(p["manifest"]), []
        wanted = {w["path"] for w in p["want"]}
        shutil.rmtree(os.path.join(self.folder, "out"), ignore_errors=True)  # Morvant has taken what was there
        os.makedirs(os.path.join(self.folder, "out"))
        for path, full, _ in self.files(version):
            if path in wanted and len(places) < 100:  # Morvant asks again for the rest
                name = "out/%d" % len(places)
                shutil.copyfile(full, os.path.join(self.folder, name))
                places.append({"path": path, "file": name})
        return {"places": places}


def send(message):
    sys.stdout.buffer.write(json.dumps(dict(message, jsonrpc="2.0")).encode() + b"\n")
    sys.stdout.buffer.flush()


def notify(method, params):
    send({"method": method, "params": params})


def main():
    adapter = Adapter()
    known = {name: getattr(adapter, name) for name in ("initialize", "builds", "manifest", "content")}
    for line in sys.stdin.buffer:
        message = json.loads(line)
        if message.get("method") == "exit":
            return
        if "id" not in message or "method" not in message:
            continue
        reply = {"id": message["id"]}
        try:
            if message["method"] not in known:
                raise Refused(-32601, "this adapter does not know " + message["method"])
            reply["result"] = known[message["method"]](message.get("params") or {})
        except Refused as e:
            reply["error"] = {"code": e.code, "message": e.message}
        except OSError as e:
            reply["error"] = {"code": -32603, "message": str(e)}
        send(reply)


if __name__ == "__main__":
    main()
