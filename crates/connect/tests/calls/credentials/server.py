"""A server that wants to be shown credentials, checked by other people's libraries. Says its port.

python server.py FOLDER: the folder holds the public keys of whoever signs, NAME.pem.
  POST /token            gives a token for an assertion (RFC 7523)
  *    /bearer/...       wants such a token
  *    /signed/...       wants a message signature (RFC 9421)
  *    /v4/SERVICE/...   wants Signature Version 4
  POST /sessions         opens a session; at most 3 at a time; DELETE /sessions/ID ends one
  GET  /sessions         how many were opened, and how many are open
  POST /forget           forgets all sessions
  *    /inside/...       wants a session
"""

import base64
import hashlib
import json
import pathlib
import secrets
import sys
import threading
import urllib.parse
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from types import SimpleNamespace

import botocore.auth
import jwt
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials
from cryptography.hazmat.primitives.serialization import load_pem_public_key
from http_message_signatures import HTTPMessageVerifier, HTTPSignatureKeyResolver, algorithms

FOLDER = pathlib.Path(sys.argv[1])
SHARED = b"the-shared-key-of-two-piers"
KEY = "v4-key/with+signs="
LOCK = threading.Lock()
TOKENS, SESSIONS, OPENED = set(), {}, []
ALGORITHMS = {
    "hmac": algorithms.HMAC_SHA256,
    "ed25519": algorithms.ED25519,
    "p256": algorithms.ECDSA_P256_SHA256,
    "pss": algorithms.RSA_PSS_SHA512,
    "rsa": algorithms.RSA_V1_5_SHA256,
}


def public(name):
    return load_pem_public_key((FOLDER / f"{name}.pem").read_bytes())


class Keys(HTTPSignatureKeyResolver):
    def resolve_public_key(self, key_id):
        return SHARED if key_id == "hmac" else public("rsa" if key_id == "pss" else key_id)


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, *_):
        pass

    def answer(self, status, body=None, headers=()):
        data = json.dumps(body).encode()
        self.send_response(status)
        for name, value in headers:
            self.send_header(name, value)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def handle_one(self):
        self.body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
        port = self.server.server_address[1]
        self.url = f"http://127.0.0.1:{port}{self.path}"
        try:
            first = self.path.split("?")[0].split("/")[1]
            getattr(self, "at_" + first)()
        except Exception as error:
            self.answer(401, {"error": f"{type(error).__name__}: {error}"})

    do_GET = do_POST = do_PUT = do_DELETE = do_PATCH = handle_one

    def at_token(self):
        form = dict(urllib.parse.parse_qsl(self.body.decode()))
        text = form.get("assertion") or form["client_assertion"]
        head = jwt.get_unverified_header(text)
        url = f"http://127.0.0.1:{self.server.server_address[1]}/token"
        claims = jwt.decode(
            text,
            public(head["kid"]),
            algorithms=["RS256", "ES256", "EdDSA"],
            audience=url,
            options={"require": ["exp", "iat", "iss", "sub", "jti"]},
        )
        token = secrets.token_hex(16)
        TOKENS.add(token)
        form.pop("assertion", None) or form.pop("client_assertion")
        if form.get("scope") == "echo":
            return self.answer(400, {"error": "invalid_grant", "error_description": text})
        self.answer(200, {"access_token": token, "token_type": "Bearer"})
        OPENED.append({"alg": head["alg"], "iss": claims["iss"], "sub": claims["sub"], "form": form,
                       "tenant": claims.get("tenant"), "lasts": claims["exp"] - claims["iat"]})

    def at_seen(self):
        self.answer(200, OPENED[-1] if OPENED else None)

    def at_bearer(self):
        token = self.headers["Authorization"].removeprefix("Bearer ")
        self.answer(200 if token in TOKENS else 401, {"token": token})

    def at_signed(self):
        message = SimpleNamespace(method=self.command, url=self.url, headers=self.headers)
        key_id = self.headers["Signature-Input"].split('keyid="')[1].split('"')[0]
        verifier = HTTPMessageVerifier(signature_algorithm=ALGORITHMS[key_id], key_resolver=Keys())
        results = verifier.verify(message)
        given = self.headers.get("Content-Digest")
        made = base64.b64encode(hashlib.sha256(self.body).digest()).decode()
        if given is not None and given != f"sha-256=:{made}:":
            raise ValueError("the digest is that of another body")
        covered = [str(name).strip('"') for name in results[0].covered_components]
        covered.remove("@signature-params")
        self.answer(200, {"covered": covered, "digest": given is not None,
                          "parameters": sorted(results[0].parameters)})

    def at_v4(self):
        service = self.path.split("/")[2]
        parts = self.headers["Authorization"].split(" ", 1)[1].split(", ")
        parts = dict(part.split("=", 1) for part in parts)
        region = parts["Credential"].split("/")[2]
        signed = parts["SignedHeaders"].split(";")
        request = AWSRequest(method=self.command, url=self.url, data=self.body)
        for name in signed:
            if name not in ("host", "x-amz-date", "x-amz-security-token"):
                request.headers[name] = self.headers[name]
        request.context["timestamp"] = self.headers["X-Amz-Date"]
        kind = botocore.auth.S3SigV4Auth if service == "s3" else botocore.auth.SigV4Auth
        token = self.headers.get("X-Amz-Security-Token")
        signer = kind(Credentials("AKPIER", KEY, token), service, region)
        # Its own clock says when; ours said so already.
        from datetime import datetime, timezone
        at = datetime.strptime(self.headers["X-Amz-Date"], "%Y%m%dT%H%M%SZ")
        botocore.auth.get_current_datetime = lambda *_, **__: at.replace(tzinfo=timezone.utc)
        with LOCK:
            signer.add_auth(request)
        want = request.headers["Authorization"].split("Signature=")[1]
        good = parts["Signature"] == want
        text = None if good else signer.canonical_request(request)
        self.answer(200 if good else 403, {"signed": signed, "wanted": text})

    def at_sessions(self):
        with LOCK:
            if self.command == "GET":
                return self.answer(200, {"opened": len(OPENED), "open": len(SESSIONS)})
            if self.command == "DELETE":
                mine = self.headers.get("X-Auth-Token")
                key = self.path.split("/")[2]
                if SESSIONS.get(mine) != key:
                    return self.answer(401, {})
                del SESSIONS[mine]
                return self.answer(204)
            body = json.loads(self.body)
            if body != {"UserName": "arvok", "Password": "fog-horn-77"}:
                return self.answer(401, {"error": "no such user with that password"})
            if len(SESSIONS) >= 3:
                return self.answer(503, {"error": "too many sessions"})
            token, key = secrets.token_hex(16), str(len(OPENED) + 1)
            SESSIONS[token] = key
            OPENED.append(key)
        self.answer(201, {"Id": key}, [("X-Auth-Token", token)])

    def at_forget(self):
        SESSIONS.clear()
        self.answer(200)

    def at_inside(self):
        token = self.headers.get("X-Auth-Token")
        if token not in SESSIONS or self.path.endswith("/never"):
            return self.answer(401, {"error": "no session"})
        self.answer(200, {"said": token, "body": self.body.decode()})


server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
print(server.server_address[1], flush=True)
server.serve_forever()
