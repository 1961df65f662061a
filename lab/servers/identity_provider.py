"""An identity provider to sign in at, on pysaml2 and xmlsec1: independent of all that the product
and the cloud stand-in use. People's passwords are tried by a bind at a directory. Services are
made known at /services, by their metadata; /faults makes assertions wrong on purpose."""

import argparse
import datetime
import html
import json
import os
import ssl
import threading
import urllib.parse
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import ldap3
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from ldap3.utils.conv import escape_filter_chars
from saml2 import BINDING_HTTP_POST, BINDING_HTTP_REDIRECT
from saml2.authn_context import PASSWORDPROTECTEDTRANSPORT
from saml2.config import IdPConfig
from saml2.metadata import entity_descriptor, sign_entity_descriptor
from saml2.saml import NAME_FORMAT_URI, NAMEID_FORMAT_PERSISTENT, NameID
from saml2.server import Server
from saml2.sigver import security_context, verify_redirect_signature
from saml2.xmldsig import DIGEST_SHA256, SIG_RSA_SHA256

arguments = argparse.ArgumentParser()
for name in ("dir", "ldap", "ca", "base"):
    arguments.add_argument("--" + name, required=True)
arguments.add_argument("--port", type=int, required=True)
asked = arguments.parse_args()

base_url = f"http://127.0.0.1:{asked.port}"
services_file = os.path.join(asked.dir, "service.xml")
lock = threading.Lock()
faults = {}
state = {"signing": "signing", "also": []}

PAGE = """<!doctype html><html lang="en"><meta charset="utf-8"><title>Brisling sign-in</title>
<body style="font: 16px/1.5 sans-serif; max-width: 30rem; margin: 3rem auto">{}</body></html>"""

LOGIN = """<h1>Brisling Cargo</h1><p role="alert">{said}</p><form method="post" action="/login">
<input type="hidden" name="request" value="{request}"><input type="hidden" name="relay" value="{relay}">
<p><label>Name <input name="name" id="name" autocomplete="username"></label></p>
<p><label>Password <input name="password" id="password" type="password" autocomplete="current-password"></label></p>
<p><button id="sign-in">Sign in</button></p></form>"""

SERVICES = """<h1>Services that people sign in to</h1><p role="status" id="said">{said}</p>
<form method="post" action="/services"><p><label>Metadata of the service<br>
<textarea name="metadata" id="metadata" rows="12" cols="60"></textarea></label></p>
<p><button id="save">Make it known</button></p></form>"""


def pair(name, days=365):
    """The files of a key and its certificate, made when they are not there."""
    key_file, certificate_file = (os.path.join(asked.dir, name + end) for end in (".key", ".crt"))
    if not os.path.exists(certificate_file):
        key = rsa.generate_private_key(public_exponent=65537, key_size=2048)
        subject = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "Brisling sign-in " + name)])
        now = datetime.datetime.utcnow()
        certificate = x509.CertificateBuilder().subject_name(subject).issuer_name(subject).public_key(key.public_key()).serial_number(x509.random_serial_number()).not_valid_before(now - datetime.timedelta(hours=1)).not_valid_after(now + datetime.timedelta(days=days)).sign(key, hashes.SHA256())
        for file, text in (
            (key_file, key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.TraditionalOpenSSL, serialization.NoEncryption())),
            (certificate_file, certificate.public_bytes(serialization.Encoding.PEM)),
        ):
            with open(file, "wb") as to:
                to.write(text)
    return key_file, certificate_file


def configuration():
    key_file, certificate_file = pair(state["signing"])
    services = {"local": [services_file]} if os.path.exists(services_file) else {}
    return IdPConfig().load({
        "entityid": base_url + "/metadata",
        "service": {"idp": {
            "endpoints": {"single_sign_on_service": [(base_url + "/sso", BINDING_HTTP_REDIRECT)]},
            "policy": {"default": {"lifetime": {"minutes": 5}, "attribute_restrictions": None, "name_form": NAME_FORMAT_URI, "sign_assertion": True}},
            "name_id_format": [NAMEID_FORMAT_PERSISTENT],
            "sign_assertion": True,
        }},
        "key_file": key_file, "cert_file": certificate_file, "additional_cert_files": [pair(name)[1] for name in state["also"]], "xmlsec_binary": "/usr/bin/xmlsec1",
        "metadata": services, "valid_for": 7 * 24, "signing_algorithm": SIG_RSA_SHA256, "digest_algorithm": DIGEST_SHA256,
    })


def load():
    state["server"] = Server(config=configuration())


def metadata():
    config = configuration()
    described = entity_descriptor(config)
    if faults.get("unsigned"):
        return str(described)
    key_file, certificate_file = pair(faults.get("metadata key", "metadata"))
    config.key_file, config.cert_file = key_file, certificate_file
    return sign_entity_descriptor(described, None, security_context(config), sign_alg=SIG_RSA_SHA256, digest_alg=DIGEST_SHA256)[1]


def person(name, password):
    """The entry of somebody whose password is right, or None."""
    tls = ldap3.Tls(validate=ssl.CERT_REQUIRED, ca_certs_file=asked.ca)
    server = ldap3.Server(asked.ldap, tls=tls, connect_timeout=5)
    bind, secret = faults["reader"], faults["secret"]
    with ldap3.Connection(server, bind, secret, auto_bind=True) as reader:
        safe = escape_filter_chars(name)
        reader.search(asked.base, f"(&(objectClass=inetOrgPerson)(|(uid={safe})(mail={safe})))", attributes=["mail", "displayName", "entryUUID"])
        if len(reader.entries) != 1 or not password:
            return None
        entry = reader.entries[0]
    check = ldap3.Connection(server, entry.entry_dn, password)
    if not check.bind():
        return None
    check.unbind()
    return entry


def parsed(query):
    """The request of a known service, signed by it."""
    server = state["server"]
    request = server.parse_authn_request(query["SAMLRequest"], BINDING_HTTP_REDIRECT)
    issuer = request.message.issuer.text
    certificates = [one[-1] if isinstance(one, tuple) else one for one in server.metadata.certs(issuer, "any", "signing")]
    if not any(verify_redirect_signature(query, server.sec.sec_backend, certificate) for certificate in certificates):
        raise ValueError("it is not signed by " + issuer)
    return request


class Handler(BaseHTTPRequestHandler):
    def log_message(self, *_):
        pass

    def answer(self, text, kind="text/html; charset=utf-8", status=200):
        body = text if isinstance(text, bytes) else text.encode()
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def fields(self):
        length = int(self.headers.get("Content-Length", 0))
        return self.rfile.read(length).decode()

    def do_GET(self):
        url = urllib.parse.urlsplit(self.path)
        query = dict(urllib.parse.parse_qsl(url.query))
        if url.path == "/metadata":
            with lock:
                return self.answer(metadata(), "application/samlmetadata+xml")
        if url.path == "/services":
            return self.answer(PAGE.format(SERVICES.format(said="")))
        if url.path != "/sso":
            return self.answer("nothing here", status=404)
        try:
            with lock:
                parsed(query)
        except Exception as fault:  # whatever is wrong with it, nobody signs in
            return self.answer(PAGE.format("<p>The request is refused: " + html.escape(str(fault) or type(fault).__name__) + "</p>"), status=403)
        form = LOGIN.format(said="", request=html.escape(query["SAMLRequest"]), relay=html.escape(query.get("RelayState", "")))
        return self.answer(PAGE.format(form))

    def do_POST(self):
        if self.path == "/faults":
            given = json.loads(self.fields())
            with lock:
                faults.update(given)
                if "signing" in given:  # another key from now on, the one of before still told
                    state.update(signing=given["signing"], also=[name for name in (given.get("also") or "").split(",") if name])
                    pair(given["signing"], int(given.get("days") or 365))
                    load()
            return self.answer("{}", "application/json")
        form = dict(urllib.parse.parse_qsl(self.fields()))
        if self.path == "/services":
            with open(services_file, "w", encoding="utf-8") as file:
                file.write(form.get("metadata", ""))
            try:
                with lock:
                    load()
            except Exception as fault:
                os.remove(services_file)
                with lock:
                    load()
                return self.answer(PAGE.format(SERVICES.format(said="It cannot be read: " + html.escape(str(fault)))), status=400)
            return self.answer(PAGE.format(SERVICES.format(said="The service is known.")))
        if self.path != "/login":
            return self.answer("nothing here", status=404)
        entry = person(form.get("name", ""), form.get("password", ""))
        if entry is None:
            again = LOGIN.format(said="The name or the password is wrong.", request=html.escape(form["request"]), relay=html.escape(form["relay"]))
            return self.answer(PAGE.format(again), status=401)
        with lock:
            return self.answer(self.respond(form, entry))

    def respond(self, form, entry):
        server = state["server"]
        request = server.parse_authn_request(form["request"], BINDING_HTTP_REDIRECT)
        to = server.response_args(request.message, [BINDING_HTTP_POST])
        subject = faults.get("subject") or str(entry.entryUUID)
        identity = {"eduPersonPrincipalName": [faults.get("login") or str(entry.mail)], "displayName": [str(name) for name in entry.displayName.values]}
        response = server.create_authn_response(
            identity, in_response_to=request.message.id, destination=to["destination"], sp_entity_id=to["sp_entity_id"],
            name_id=NameID(format=NAMEID_FORMAT_PERSISTENT, text=subject), authn={"class_ref": PASSWORDPROTECTEDTRANSPORT, "authn_auth": base_url},
            sign_assertion=True, sign_alg=SIG_RSA_SHA256, digest_alg=DIGEST_SHA256)
        sent = server.apply_binding(BINDING_HTTP_POST, f"{response}", to["destination"], relay_state=form["relay"], response=True)
        return "".join(sent["data"]) if isinstance(sent["data"], list) else sent["data"]


with open(os.path.join(asked.dir, "reader.json"), encoding="utf-8") as file:
    faults.update(json.load(file))
load()
ThreadingHTTPServer(("127.0.0.1", asked.port), Handler).serve_forever()
