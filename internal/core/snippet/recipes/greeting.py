# A page that the server greets by town: a WSGI application behind nginx-handover.conf,
# haproxy-handover.cfg or apache-handover.conf, which hand the town on and remove what a client
# sent under its name. Run it with: gunicorn --bind 127.0.0.1:3000 greeting:application
from html import escape
from urllib.parse import unquote


def greeting(environ):
    city = unquote(environ.get("HTTP_PORCH_CITY", ""))  # percent-encoded UTF-8
    return f"Hello to {city}!" if city else "Hello, wherever you are!"


def application(environ, start_response):
    page = f"""<!doctype html>
<html lang="en">
<meta charset="utf-8">
<title>Greeting</title>
<h1>{escape(greeting(environ))}</h1>
</html>
"""
    start_response("200 OK", [
        ("Content-Type", "text/html; charset=utf-8"),
        ("Cache-Control", "private, no-store"),  # it is for this visitor alone
    ])
    return [page.encode()]
