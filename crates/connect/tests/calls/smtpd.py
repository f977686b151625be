# A mail server for tests: what it takes lies in a Maildir. Started with a port, the Maildir, a name and a password, and,
# for one that speaks TLS, a certificate with its key and whether that is from the beginning.
import ssl
import sys
import threading

from aiosmtpd.controller import Controller
from aiosmtpd.handlers import Mailbox
from aiosmtpd.smtp import AuthResult

port, folder, user, password = int(sys.argv[1]), *sys.argv[2:5]
tls = None
if len(sys.argv) > 5:
    tls = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    tls.load_cert_chain(sys.argv[5], sys.argv[6])
from_the_beginning = len(sys.argv) > 7 and sys.argv[7] == "smtps"


class Handler(Mailbox):
    async def handle_RCPT(self, server, session, envelope, address, options):
        if address.startswith("nobody@"):
            return "550 5.1.1 nobody is called so here"
        envelope.rcpt_tos.append(address)
        return "250 OK"


def known(server, session, envelope, mechanism, data):
    right = (data.login, data.password) == (user.encode(), password.encode())
    return AuthResult(success=right, handled=False)


smtp = Controller(
    Handler(folder),
    hostname="127.0.0.1",
    port=port,
    ssl_context=tls if from_the_beginning else None,
    tls_context=None if from_the_beginning else tls,
    require_starttls=tls is not None and not from_the_beginning,
    authenticator=known,
    auth_required=bool(password),
    auth_require_tls=False,
)
smtp.start()
threading.Event().wait()
