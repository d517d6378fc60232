"""Small networks that behave as they are told: a mail server and an HTTP gateway, each on its own port."""

import socket
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

from loyalbell.channels.loopback import LOOPBACK

HANGS_SECONDS = 3.0


class MailServer:
    """Answers each command (``hello``, ``mail``, ``rcpt``, ``content``) with its line; ``hang``: nothing;
    ``close``: ends the connection; ``garbage``: bytes that are no answer.
    """

    def __init__(self, **answers: str) -> None:
        self.answers = answers
        self.taken: list[str] = []
        self.recipients: list[str] = []
        self._socket = socket.create_server((LOOPBACK, 0))
        self.port = int(self._socket.getsockname()[1])
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def keep(self, sender: str, recipient: str, content: bytes) -> None:
        """What becomes of a mail that was taken; for a server that hands it on."""

    def stop(self) -> None:
        self._socket.close()

    def _serve(self) -> None:
        while True:
            try:
                connection, _ = self._socket.accept()
            except OSError:
                return
            threading.Thread(target=self._talk, args=(connection,), daemon=True).start()

    def _talk(self, connection: socket.socket) -> None:
        try:
            with connection, connection.makefile("rb") as lines:
                if self._say(connection, "hello", "220 here"):
                    self._commands(connection, lines)
        except OSError:
            pass

    def _commands(self, connection: socket.socket, lines: Iterator[bytes]) -> None:
        sender = recipient = ""
        for line in lines:
            if line[:4].upper() == b"MAIL":
                sender = line.decode().partition("<")[2].partition(">")[0]
            word = line[:4].upper()
            if word in (b"EHLO", b"HELO", b"RSET", b"NOOP"):
                connection.sendall(b"250 OK\r\n")
            elif word == b"QUIT":
                connection.sendall(b"221 bye\r\n")
                return
            elif word == b"MAIL" and not self._say(connection, "mail", "250 OK"):
                return
            elif word == b"RCPT":
                recipient = line.decode().partition("<")[2].partition(">")[0]
                self.recipients.append(recipient)
                if not self._say(connection, "rcpt", "250 OK"):
                    return
            elif word == b"DATA":
                connection.sendall(b"354 go on\r\n")
                content = list(iter(lambda: next(lines), b".\r\n"))
                if not self._say(connection, "content", "250 taken"):
                    return
                if self.answers.get("content", "250").startswith("250"):
                    self.taken.append(recipient)
                    self.keep(sender, recipient, b"".join(content))

    def _say(self, connection: socket.socket, part: str, usual: str) -> bool:
        """Whether the conversation goes on."""
        answer = self.answers.get(part, usual)
        if answer == "hang":
            time.sleep(HANGS_SECONDS)
        if answer in ("hang", "close"):
            return False
        connection.sendall(b"\x00\xff\x00 no answer\n\n" if answer == "garbage" else f"{answer}\r\n".encode())
        return answer != "garbage" and not answer.startswith("421")


class Gateway:
    """Answers ``POST /messages`` with a status, or ``hang``, ``close``, ``garbage``."""

    def __init__(self, answer: str = "202", retry_after: str = "") -> None:
        self.answer, self.retry_after = answer, retry_after
        self.taken: list[str] = []
        self.asked = 0
        gateway = self

        class Handler(BaseHTTPRequestHandler):
            def log_message(self, *arguments: object) -> None:
                pass

            def do_POST(self) -> None:
                gateway._post(self)

        self._server = ThreadingHTTPServer((LOOPBACK, 0), Handler)
        self._server.daemon_threads = True
        self.url = f"http://{LOOPBACK}:{self._server.server_address[1]}"
        threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True).start()

    def stop(self) -> None:
        self._server.shutdown()
        self._server.server_close()

    def _post(self, call: BaseHTTPRequestHandler) -> None:
        self.asked += 1
        call.rfile.read(int(call.headers["Content-Length"]))
        if self.answer == "hang":
            time.sleep(HANGS_SECONDS)
        if self.answer in ("hang", "close"):
            call.close_connection = True
            return
        if self.answer == "garbage":
            call.wfile.write(b"\x00\xff no HTTP at all\n\n")
            call.close_connection = True
            return
        status = int(self.answer)
        if 200 <= status < 300:
            key = str(call.headers["Idempotency-Key"])
            if key not in self.taken:
                self.taken.append(key)
        call.send_response(status)
        if self.retry_after:
            call.send_header("Retry-After", self.retry_after)
        call.send_header("Content-Length", "0")
        call.end_headers()
