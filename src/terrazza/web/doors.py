"""Who may ask, and what browsers are told: hosts, requests from other sites, headers, and addresses that no
number or text can be.
"""

from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import JSONResponse

HOSTS = ["127.0.0.1", "localhost", "[::1]"]
POLICY = "; ".join(
    (
        "default-src 'self'",
        "script-src 'self'",
        "style-src 'self' 'unsafe-inline'",
        "img-src 'self' data: blob:",
        "font-src 'self'",
        "connect-src 'self'",
        "object-src 'none'",
        "base-uri 'none'",
        "form-action 'self'",
        "frame-ancestors 'none'",
    )
)
HEADERS = {
    "Content-Security-Policy": POLICY,
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
}
READS = {"GET", "HEAD"}


class Doors:
    """Refuses what another site's page asks to be changed, and puts the headers on every answer."""

    def __init__(self, app):
        self.app = app

    async def __call__(self, scope, receive, send) -> None:
        if scope["type"] != "http":
            return await self.app(scope, receive, send)

        async def headed(message):
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for name, value in HEADERS.items():
                    headers.setdefault(name, value)
            await send(message)

        if scope["method"] not in READS and foreign(Headers(scope=scope)):
            return await JSONResponse(
                {"message": "This request came from another site.", "hint": "Open Terrazza's own page."}, 403
            )(scope, receive, headed)
        await self.app(scope, receive, headed)


def foreign(headers: Headers) -> bool:
    """Whether a request that changes something comes from another site's page, by what browsers say of it;
    programs that are no browsers say nothing.
    """
    host, site = headers.get("host"), headers.get("sec-fetch-site")
    if site is not None and site not in {"same-origin", "none"}:
        return True
    return any(name in headers and urlsplit(headers[name]).netloc != host for name in ("origin", "referer"))
