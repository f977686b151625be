#!/usr/bin/env python3
"""Sends what it reads to the source {source} of Arvok. What cannot be sent now waits in a folder, and
is sent before the next one; nothing is taken twice.

KEY: the secret of the source, or the file of a certificate and its key. SPOOL: the folder; left
out, one in the home folder.
"""
import base64, hashlib, hmac, os, pathlib, socket, ssl, sys, time, urllib.error, urllib.request

KEY = os.environ.get("KEY") or sys.exit("set KEY to the secret of the source")
SPOOL = pathlib.Path(os.environ.get("SPOOL") or pathlib.Path.home() / ".arvok-spool" / "{source}")
CONTEXT = ssl.create_default_context()
{identity}

def headers(body):
{proof}


def send(message):
    body = message.read_bytes()
    given = {"Content-Type": "{content_type}", "Idempotency-Key": message.stem, **headers(body)}
    request = urllib.request.Request("{address}/in/{source}", body, given)
    try:
        with urllib.request.urlopen(request, timeout=20, context=CONTEXT) as answer:
            return answer.status
    except urllib.error.HTTPError as refused:
        return refused.code
    except OSError as failed:
        return failed


SPOOL.mkdir(parents=True, exist_ok=True)
if len(list(SPOOL.glob("*.message"))) >= 10000:
    sys.exit(f"{source}: ten thousand messages wait in {SPOOL}, and this one is not kept")
name = f"{int(time.time())}-{socket.gethostname()}-{os.getpid()}"
(SPOOL / f"{name}.part").write_bytes(sys.stdin.buffer.read())
(SPOOL / f"{name}.part").rename(SPOOL / f"{name}.message")
for message in sorted(SPOOL.glob("*.message")):
    status = send(message)
    if status in (200, 202, 422):  # 422: it is kept there until the source can read it
        message.unlink(missing_ok=True)
    elif status in (400, 413):
        message.rename(message.with_suffix(".refused"))
    else:
        print(f"{source}: not sent ({status}), kept in {SPOOL}", file=sys.stderr)
        sys.exit(75)
