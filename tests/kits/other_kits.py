"""The kits of the second corpus that are no sheets: mails, tables, archives, codes, certificates."""

from __future__ import annotations

import json
import mailbox
import shutil
from base64 import b64encode
from collections.abc import Callable
from email.message import EmailMessage
from pathlib import Path

from kits.make_kits import Outcome, convert, run

ACCOUNT = "heron-survey"
PORTAL_ACCOUNT = f"{ACCOUNT} Oystercatcher-58-shell"
CREDENTIALS = "heron-survey\nOystercatcher-58-shell\n"
LISBON, TALLINN = "lisbon.quillwort.example", "tallinn.quillwort.example"
NAIROBI, WELLINGTON = "nairobi.quillwort.example", "wellington.quillwort.example"
MONTEVIDEO, OFFICE = "montevideo.quillwort.example", "office.tidewrack.example"
SHEET = f"Server: {LISBON}\nUsername: heron-survey\nPassword: Oystercatcher-58-shell\nCountry: Portugal\n"
ONE = [{"hosts": [LISBON], "country": "PT"}]


def at(*hosts: str, **more: object) -> list[dict[str, object]]:
    """A profile for each host."""
    return [{"hosts": [host], **more} for host in hosts]


class Maker:
    """Writes kits and keeps what must come of them."""

    def __init__(self, files: Path, work: Path) -> None:
        self.files, self.work = files, work
        self.made: list[Outcome] = []

    def kit(self, path: str, data: bytes | str, kind: str, language: str = "en", **outcome: object) -> Path:
        """A kit of one file."""
        there = self.files / path
        there.parent.mkdir(parents=True, exist_ok=True)
        there.write_bytes(data.encode() if isinstance(data, str) else data)
        self.expect(path, kind, language, **outcome)
        return there

    def expect(self, path: str, kind: str, language: str = "en", **outcome: object) -> None:
        """What must come of a kit that another program has written."""
        self.made.append(Outcome(path, language, kind, **outcome))  # type: ignore[arg-type]


def mail(text: str, page: str = "", *, charset: str = "utf-8", coding: str | None = None) -> EmailMessage:
    """A mail as a mail program writes it."""
    made = EmailMessage()
    made["From"] = "desk@tidewrack.example"
    made["To"] = "field@tidewrack.example"
    made["Subject"] = "Access from the cottage"
    made["Date"] = "Mon, 12 Oct 2026 09:14:00 +0200"
    made["Message-ID"] = "<4711@tidewrack.example>"
    made.set_content(text, charset=charset, cte=coding)
    if page:
        made.add_alternative(page, subtype="html")
    return made


def make_mails(m: Maker) -> None:
    """Lists of servers in columns and in prose, forwarded, damaged, several in one file."""
    two = f"Username: {ACCOUNT}\nPassword: Oystercatcher-58-shell\n"
    columns = f"Hello,\n\nthese gateways are open to you:\n\nLisbon       {LISBON}\nTallinn      {TALLINN}\nMontevideo   {MONTEVIDEO}\n\n{two}\nRegards\n"
    m.kit(
        "mail-columns.eml",
        bytes(mail(columns)),
        "mail",
        profiles=at(LISBON, TALLINN, MONTEVIDEO),
        secrets=[PORTAL_ACCOUNT],
    )
    prose = (
        f"Hi,\n\nthe gateway in Lisbon is {LISBON} and the one in Nairobi is {NAIROBI}. Your name is below.\n\n{two}"
    )
    m.kit("mail-prose.eml", bytes(mail(prose)), "mail", profiles=at(LISBON, NAIROBI), secrets=[PORTAL_ACCOUNT])
    servers = f"Server: {LISBON}\nServer: {TALLINN}\n{two}"
    m.kit("mail-two-servers.eml", bytes(mail(servers)), "mail", profiles=at(LISBON, TALLINN), secrets=[PORTAL_ACCOUNT])
    backup = f"Server: {LISBON}\nBackup server: lisbon-2.quillwort.example\n{two}"
    m.kit(
        "mail-backup.eml",
        bytes(mail(backup)),
        "mail",
        profiles=[{"hosts": [LISBON, "lisbon-2.quillwort.example"]}],
        secrets=[PORTAL_ACCOUNT],
    )
    forwarded = "See below.\n\n-------- Forwarded message --------\n" + "".join(
        f"> {line}\n" for line in SHEET.splitlines()
    )
    m.kit("mail-forwarded.eml", bytes(mail(forwarded)), "mail", profiles=ONE, secrets=[PORTAL_ACCOUNT])
    german = f"Guten Tag,\n\nServeradresse: {TALLINN}\nBenutzername: {ACCOUNT}\nKennwort: Möwe-über-See-4\n\nGrüße\n"
    m.kit(
        "mail-latin1.eml",
        bytes(mail(german, charset="iso-8859-1", coding="quoted-printable")),
        "mail",
        "de",
        profiles=at(TALLINN),
        secrets=[f"{ACCOUNT} Möwe-über-See-4"],
    )
    page = f"<p>Your gateways</p><table><tr><th>City</th><th>Server</th><th>Country</th></tr><tr><td>Lisbon</td><td>{LISBON}</td><td>PT</td></tr><tr><td>Wellington</td><td>{WELLINGTON}</td><td>NZ</td></tr></table><p>Username: {ACCOUNT}<br>Password: Oystercatcher-58-shell</p>"
    only = EmailMessage()
    for key, value in mail("x").items():
        if not key.lower().startswith(("content", "mime")):
            only[key] = value
    only.set_content(page, subtype="html")
    m.kit(
        "mail-html-table.eml",
        bytes(only),
        "mail",
        profiles=[*at(LISBON, country="PT"), *at(WELLINGTON, country="NZ")],
        secrets=[PORTAL_ACCOUNT],
    )
    attached = mail("Attached is what you asked for.")
    attached.add_attachment(SHEET.encode(), maintype="text", subtype="plain", filename="settings.txt")
    attached.add_attachment(CREDENTIALS.encode(), maintype="application", subtype="octet-stream", filename="login.txt")
    m.kit("mail-attached.eml", bytes(attached), "mail", profiles=ONE, secrets=[PORTAL_ACCOUNT])
    box = mailbox.mbox(m.files / "mails.mbox")
    box.add(mail(f"The gateway:\n\nServer: {NAIROBI}\nCountry: Kenya\n"))
    box.add(mail(f"And your account:\n\n{two}"))
    box.close()
    m.expect("mails.mbox", "mbox", profiles=at(NAIROBI, country="KE"), secrets=[PORTAL_ACCOUNT])
    damaged = mail(SHEET)
    damaged.add_attachment(b"\x89PNG\r\n\x1a\n" + bytes(3000), maintype="image", subtype="png", filename="code.png")
    cut = bytes(damaged)
    m.kit(
        "mail-damaged-picture.eml",
        cut[: len(cut) - 900],
        "mail",
        profiles=ONE,
        secrets=[PORTAL_ACCOUNT],
        findings=["kit-unreadable"],
    )
    signature = f"{SHEET}\n-- \nIT desk, Tidewrack Survey\nPhone: +47 5550 0100\nOffice hours: 8 to 16\n"
    m.kit("mail-signature.eml", bytes(mail(signature)), "mail", profiles=ONE, secrets=[PORTAL_ACCOUNT], told=["Phone"])
    german_list = f"Hallo,\n\ndiese Server gibt es:\n\n* Lissabon: {LISBON}\n* Tallinn: {TALLINN}\n\nBenutzername: {ACCOUNT}\nKennwort: Oystercatcher-58-shell\n"
    m.kit(
        "mail-german-list.eml",
        bytes(mail(german_list)),
        "mail",
        "de",
        profiles=at(LISBON, TALLINN),
        secrets=[PORTAL_ACCOUNT],
    )
    behind = f"Hello,\n\n- {NAIROBI} (Nairobi, Kenya)\n- {WELLINGTON} (Wellington, New Zealand)\n\n{two}"
    m.kit(
        "mail-places-behind.eml",
        bytes(mail(behind)),
        "mail",
        profiles=[*at(NAIROBI, country="KE"), *at(WELLINGTON, country="NZ")],
        secrets=[PORTAL_ACCOUNT],
    )
    equals = f"Hi,\n\nhere is the office.\n\nServer = {OFFICE}\nPre-shared key = terns dive where the herring shoal\nNetworks = 10.20.0.0/16\nSend all traffic = no\n"
    m.kit(
        "mail-equals.eml",
        bytes(mail(equals, coding="base64")),
        "mail",
        profiles=[{"hosts": [OFFICE], "networks": ["10.20.0.0/16"]}],
        secrets=["terns dive where the herring shoal"],
    )
    # Kept aside.
    bullets = f"Bonjour,\n\nLes serveurs disponibles :\n\n - Lisbonne : {LISBON}\n - Nairobi : {NAIROBI}\n - Wellington : {WELLINGTON}\n\nIdentifiant : {ACCOUNT}\nMot de passe : Oystercatcher-58-shell\n"
    m.kit(
        "aside-mail-bullets.eml",
        bytes(mail(bullets)),
        "mail",
        "fr",
        aside=True,
        profiles=at(LISBON, NAIROBI, WELLINGTON),
        secrets=[PORTAL_ACCOUNT],
    )
    paren = f"Hello,\n\nuse one of these:\n\n1. {TALLINN} (Tallinn, Estonia)\n2. {MONTEVIDEO} (Montevideo, Uruguay)\n\n{two}"
    m.kit(
        "aside-mail-numbered.eml",
        bytes(mail(paren)),
        "mail",
        aside=True,
        profiles=[*at(TALLINN, country="EE"), *at(MONTEVIDEO, country="UY")],
        secrets=[PORTAL_ACCOUNT],
    )
    office = f"Moin,\n\nhier der Zugang zum Büro.\n\nGateway = {OFFICE}\nGemeinsamer Schlüssel = ringelgänse ziehen nach norden\nNetze = 10.20.0.0/16\nGesamter Verkehr = nein\n"
    m.kit(
        "aside-mail-office.eml",
        bytes(mail(office, coding="base64")),
        "mail",
        "de",
        aside=True,
        profiles=[{"hosts": [OFFICE], "networks": ["10.20.0.0/16"]}],
        secrets=["ringelgänse ziehen nach norden"],
    )


def make_tables(m: Maker) -> None:
    """Lists of gateways as spreadsheets, databases and web pages give them."""
    semicolons = f"# exported 2026-10-01\nStadt;Land;IPv4;Hostname;Auslastung\nLissabon;Portugal;192.0.2.10;{LISBON};31 %\nTallinn;Estland;192.0.2.20;{TALLINN};12 %\n"
    m.kit(
        "table-german.csv",
        semicolons.encode("cp1252"),
        "table",
        "de",
        profiles=[
            {"hosts": [LISBON, "192.0.2.10"], "country": "PT"},
            {"hosts": [TALLINN, "192.0.2.20"], "country": "EE"},
        ],
    )
    quoted = f'"Name","Host name","Country code","Latency (ms)","Load","Notes"\n"Lisbon","{LISBON}","PT","41","20","new"\n"Nairobi","{NAIROBI}","KE","160","55",""\n'
    m.kit(
        "table-quoted.csv",
        quoted,
        "table",
        profiles=[*at(LISBON, country="PT"), *at(NAIROBI, country="KE")],
        told=["Notes"],
    )
    tabs = f"City\tServer\tIPv6 address\tType\tPort\nWellington\t{WELLINGTON}\t2001:db8:65::1\tIKEv2\t500\nTallinn\t{TALLINN}\t2001:db8:62::1\tL2TP\t1701\n"
    m.kit(
        "table-types.tsv",
        tabs,
        "table",
        profiles=[
            {"hosts": [WELLINGTON, "2001:db8:65::1"]},
            {"hosts": [TALLINN, "2001:db8:62::1"], "protocol": "l2tp-ipsec"},
        ],
        findings=["ikev1-used"],
    )
    wide = f"Location,Server,Protocol,Transport\nLisbon,{LISBON},IKEv2,UDP\nNairobi,{NAIROBI},IKEv2,TCP\n"
    m.kit(
        "table-utf16.csv",
        wide.encode("utf-16"),
        "table",
        profiles=[*at(LISBON, transport="udp"), *at(NAIROBI, transport="tcp")],
    )
    m.kit(
        "table-bars.txt",
        f"| City | Server |\n|------|--------|\n| Lisbon | {LISBON} |\n| Wellington | {WELLINGTON} |\n",
        "table",
        profiles=at(LISBON, WELLINGTON),
    )
    rows = [
        {"city": "Lisbon", "country_code": "PT", "hostname": LISBON, "ips": ["192.0.2.10"], "load": 12},
        {"city": "Tallinn", "country_code": "EE", "hostname": TALLINN, "ips": ["192.0.2.20"], "load": 40},
    ]
    m.kit(
        "table-servers.json",
        json.dumps({"updated": "2026-10-01", "servers": rows}, indent=1),
        "table",
        profiles=[
            {"hosts": [LISBON, "192.0.2.10"], "country": "PT"},
            {"hosts": [TALLINN, "192.0.2.20"], "country": "EE"},
        ],
    )
    page = f"<html><head><title>Servers</title></head><body><h1>Europe</h1><table><tr><th>City</th><th>Address</th><th>Load</th></tr><tr><td>Lisbon</td><td>{LISBON}</td><td>10 %</td></tr><tr><td>Tallinn</td><td>{TALLINN}</td><td>20 %</td></tr></table><h1>Africa</h1><table><tr><th>City</th><th>Address</th><th>Load</th></tr><tr><td>Nairobi</td><td>{NAIROBI}</td><td>5 %</td></tr></table><h1>Your account</h1><table><tr><td>Username</td><td>{ACCOUNT}</td></tr><tr><td>Password</td><td>Oystercatcher-58-shell</td></tr></table></body></html>"
    m.kit(
        "table-page.html",
        page,
        "page with several tables",
        profiles=at(LISBON, TALLINN, NAIROBI),
        secrets=[PORTAL_ACCOUNT],
    )
    for form in ("xlsx", "ods", "docx", "odt", "pdf"):
        body = f"<table border='1'><tr><td>City</td><td>Server</td><td>Country</td></tr><tr><td>Lisbon</td><td>{LISBON}</td><td>Portugal</td></tr><tr><td>Montevideo</td><td>{MONTEVIDEO}</td><td>Uruguay</td></tr><tr><td>Nairobi</td><td>{NAIROBI}</td><td>Kenya</td></tr></table>"
        source = m.work / f"table-{form}.html"
        source.write_text(f"<html><head><meta charset='utf-8'></head><body>{body}</body></html>", "utf-8")
        convert(form, [source], m.files)
        m.expect(
            f"table-{form}.{form}",
            f"table, {form}",
            profiles=[*at(LISBON, country="PT"), *at(MONTEVIDEO, country="UY"), *at(NAIROBI, country="KE")],
        )
    across = f"Place,Lisbon,Tallinn\nServer,{LISBON},{TALLINN}\nCountry,PT,EE\nProtocol,IKEv2,IKEv2\n"
    m.kit("table-across.csv", across, "table", profiles=[*at(LISBON, country="PT"), *at(TALLINN, country="EE")])
    german = f"<html><body><table><tr><th>Ort</th><th>Server</th><th>Protokoll</th></tr><tr><td>Lissabon</td><td>{LISBON}</td><td>IKEv2</td></tr><tr><td>Nairobi</td><td>{NAIROBI}</td><td>IKEv2</td></tr></table></body></html>"
    source = m.work / "table-places.html"
    source.write_text(german, "utf-8")
    convert("xlsx", [source], m.files)
    m.expect("table-places.xlsx", "table, xlsx", "de", profiles=at(LISBON, NAIROBI))
    listed = [
        {"site": "Lisbon", "fqdn": LISBON, "country_name": "Portugal", "latency": 12},
        {"site": "Wellington", "fqdn": WELLINGTON, "country_name": "New Zealand", "latency": 290},
    ]
    m.kit(
        "table-objects.json",
        json.dumps(listed),
        "table",
        profiles=[*at(LISBON, country="PT"), *at(WELLINGTON, country="NZ")],
    )
    spanish = f"Ciudad;Servidor;País;Carga\nLisboa;{LISBON};Portugal;4\nNairobi;{NAIROBI};Kenia;9\n"
    m.kit(
        "table-spanish.csv",
        spanish.encode("cp1252"),
        "table",
        "es",
        profiles=[*at(LISBON, country="PT"), *at(NAIROBI, country="KE")],
    )
    # Kept aside.
    french = f"Ville;Pays;Serveur;Charge\nLisbonne;Portugal;{LISBON};15\nMontevideo;Uruguay;{MONTEVIDEO};22\n"
    m.kit(
        "aside-table-french.csv",
        french.encode("cp1252"),
        "table",
        "fr",
        aside=True,
        profiles=[*at(LISBON, country="PT"), *at(MONTEVIDEO, country="UY")],
    )
    norwegian = f"<html><body><table><tr><th>Sted</th><th>Tjener</th><th>Protokoll</th></tr><tr><td>Tallinn</td><td>{TALLINN}</td><td>IKEv2</td></tr><tr><td>Wellington</td><td>{WELLINGTON}</td><td>IKEv2</td></tr></table></body></html>"
    source = m.work / "aside-table-norwegian.html"
    source.write_text(norwegian, "utf-8")
    convert("xlsx", [source], m.files)
    m.expect("aside-table-norwegian.xlsx", "table, xlsx", "nb", aside=True, profiles=at(TALLINN, WELLINGTON))
    data = [
        {"location": "Nairobi", "dns_name": NAIROBI, "country": "Kenya", "ping": 140},
        {"location": "Lisbon", "dns_name": LISBON, "country": "Portugal", "ping": 30},
    ]
    m.kit(
        "aside-table-list.json",
        json.dumps(data),
        "table",
        aside=True,
        profiles=[*at(NAIROBI, country="KE"), *at(LISBON, country="PT")],
    )


def in_folder(m: Maker, name: str, files: dict[str, bytes | str]) -> Path:
    """A folder of files, to be packed."""
    folder = m.work / name
    for path, data in files.items():
        there = folder / path
        there.parent.mkdir(parents=True, exist_ok=True)
        there.write_bytes(data.encode() if isinstance(data, str) else data)
    return folder


def make_archives(m: Maker) -> None:
    """Archives by zip, 7z and bsdtar: odd names, litter, passphrases."""
    plain = {"settings.txt": SHEET.splitlines()[0] + "\nCountry: Portugal\n", "login.txt": CREDENTIALS}
    folder = in_folder(
        m,
        "litter",
        {
            **plain,
            "__MACOSX/._settings.txt": b"\0\5\x16\7" + bytes(40),
            "__MACOSX/._login.txt": b"\0\5\x16\7" + bytes(44),
            ".DS_Store": b"\0\0\0\1Bud1" + bytes(60),
            "Thumbs.db": bytes.fromhex("d0cf11e0a1b11ae1") + bytes(40),
            "desktop.ini": "[.ShellClassInfo]\n",
        },
    )
    run("zip", "-qr", str(m.files / "archive-litter.zip"), ".", cwd=folder)
    m.expect("archive-litter.zip", "zip", profiles=ONE, secrets=[PORTAL_ACCOUNT])
    folder = in_folder(m, "umlauts", {"Zugänge/Büro.txt": f"Server: {OFFICE}\nSchlüssel: robben auf der sandbank\n"})
    run("7z", "a", "-tzip", "-mcu=off", "-mcl=on", str(m.files / "archive-cp850.zip"), ".", cwd=folder)
    m.expect(
        "archive-cp850.zip",
        "zip, names in an old code page",
        "de",
        profiles=at(OFFICE),
        secrets=["robben auf der sandbank"],
    )
    folder = in_folder(
        m,
        "nfd",
        {"Zuga\u0308nge/Bu\u0308ro.txt": f"Server: {OFFICE}\nBenutzername: curlew\nKennwort: Eider-12-strand\n"},
    )
    run("bsdtar", "-cJf", str(m.files / "archive-nfd.tar.xz"), ".", cwd=folder)
    m.expect(
        "archive-nfd.tar.xz", "tar.xz, decomposed names", "de", profiles=at(OFFICE), secrets=["curlew Eider-12-strand"]
    )
    folder = in_folder(m, "plain", dict(plain))
    run("zip", "-qr", "-P", "guillemot", str(m.files / "archive-old-encryption.zip"), ".", cwd=folder)
    m.expect(
        "archive-old-encryption.zip",
        "zip, encrypted",
        profiles=ONE,
        secrets=[PORTAL_ACCOUNT],
        passphrases=["guillemot"],
    )
    run("7z", "a", "-tzip", "-mem=AES256", "-pguillemot", str(m.files / "archive-aes.zip"), ".", cwd=folder)
    m.expect(
        "archive-aes.zip", "zip, AES", profiles=ONE, secrets=[PORTAL_ACCOUNT], passphrases=["wrong first", "guillemot"]
    )
    run("7z", "a", "-tzip", "-mem=AES256", "-pguillemot", str(m.files / "archive-locked.zip"), ".", cwd=folder)
    m.expect(
        "archive-locked.zip",
        "zip, AES, no passphrase",
        findings=["archive-encrypted"],
        told=["settings.txt", "login.txt"],
    )
    two = m.files / "archive-two-passphrases.zip"
    run("7z", "a", "-tzip", "-mem=AES256", "-pguillemot", str(two), "settings.txt", cwd=folder)
    run("7z", "a", "-tzip", "-mem=AES256", "-prazorbill", str(two), "login.txt", cwd=folder)
    m.expect(
        two.name, "zip, two passphrases", profiles=ONE, secrets=[PORTAL_ACCOUNT], passphrases=["guillemot", "razorbill"]
    )
    shutil.copy(two, m.files / "archive-one-wrong.zip")
    m.expect(
        "archive-one-wrong.zip",
        "zip, one passphrase missing",
        profiles=ONE,
        findings=["archive-encrypted"],
        told=["login.txt"],
        passphrases=["guillemot"],
    )
    run("7z", "a", str(m.files / "archive.7z"), ".", cwd=folder)
    m.expect("archive.7z", "7z", told=["7z"], error="kit-empty")
    run("bsdtar", "--format=zip", "-cf", str(m.files / "archive-bsdtar.zip"), ".", cwd=folder)
    m.expect("archive-bsdtar.zip", "zip by bsdtar", profiles=ONE, secrets=[PORTAL_ACCOUNT])
    run("bsdtar", "-czf", str(m.files / "archive.tar.gz"), ".", cwd=folder)
    m.expect("archive.tar.gz", "tar.gz by bsdtar", profiles=ONE, secrets=[PORTAL_ACCOUNT])
    inner = in_folder(
        m, "inner", {"read me.txt": "Thank you for choosing us. Open the document for what to type, and keep it.\n"}
    )
    shutil.copy(m.files / "sheet-02-en.docx", inner / "set-up.docx")
    run("zip", "-qr", str(m.files / "archive-document.zip"), ".", cwd=inner)
    m.expect(
        "archive-document.zip", "zip with a document", profiles=at(NAIROBI), secrets=[f"{ACCOUNT} Avocet-51-saltpan"]
    )
    # Kept aside.
    folder = in_folder(
        m,
        "aside-names",
        {
            "Données/accès à distance.txt": f"Serveur : {WELLINGTON}\nUtilisateur : {ACCOUNT}\nMot de passe : Huîtrier-pie-7\n",
            "__MACOSX/Données/._accès à distance.txt": b"\0\5\x16\7" + bytes(30),
        },
    )
    run("7z", "a", "-tzip", "-mcu=on", str(m.files / "aside-archive-names.zip"), ".", cwd=folder)
    m.expect(
        "aside-archive-names.zip",
        "zip",
        "fr",
        aside=True,
        profiles=at(WELLINGTON),
        secrets=[f"{ACCOUNT} Huîtrier-pie-7"],
    )
    run("zip", "-qr", "-P", "albatros", str(m.files / "aside-archive-encrypted.zip"), ".", cwd=folder)
    m.expect(
        "aside-archive-encrypted.zip",
        "zip, encrypted",
        "fr",
        aside=True,
        profiles=at(WELLINGTON),
        secrets=[f"{ACCOUNT} Huîtrier-pie-7"],
        passphrases=["albatros"],
    )


def photographed(text: str, angle: float, noise: int) -> object:
    """A code as a telephone sees it on paper: turned, a little out of focus, grey, with noise."""
    import io
    import random

    import segno
    from PIL import Image, ImageFilter

    octets = io.BytesIO()
    segno.make_qr(text, error="m").save(octets, kind="png", scale=7, border=4)
    code = Image.open(octets).convert("L")
    paper = Image.new("L", (code.width + 260, code.height + 200), 214)
    paper.paste(code.point(lambda value: 40 + value * 170 // 255), (110, 90))
    turned = paper.rotate(angle, expand=True, fillcolor=150, resample=Image.Resampling.BICUBIC)
    blurred = turned.filter(ImageFilter.GaussianBlur(1.3))
    draw = random.Random(4)
    pixels = blurred.load()
    for x in range(blurred.width):
        for y in range(blurred.height):
            pixels[x, y] = max(0, min(255, pixels[x, y] + draw.randint(-noise, noise)))
    return blurred


def make_codes(m: Maker) -> None:
    """QR codes on paper, in TIFF, on a page of a document, side by side, and with other things in them."""
    import segno
    from PIL import Image

    photographed(SHEET, 7, 14).save(m.files / "code-photo.jpg", quality=72)
    m.expect("code-photo.jpg", "photographed code", profiles=ONE, secrets=[PORTAL_ACCOUNT])
    photographed(SHEET, 0, 5).save(m.files / "code-scan.tiff", compression="tiff_lzw")
    m.expect("code-scan.tiff", "scanned code, TIFF", profiles=ONE, secrets=[PORTAL_ACCOUNT])
    photographed(SHEET, 3, 5).convert("RGB").save(m.files / "code-scan.pdf")
    m.expect("code-scan.pdf", "scanned code, PDF", profiles=ONE, secrets=[PORTAL_ACCOUNT])
    left, right = photographed(f"Server: {NAIROBI}\nCountry: KE\n", 0, 4), photographed(CREDENTIALS, 0, 4)
    both = Image.new("L", (left.width + right.width, max(left.height, right.height)), 200)
    both.paste(left, (0, 0))
    both.paste(right, (left.width, 0))
    both.save(m.files / "code-side-by-side.png", optimize=True)
    m.expect(
        "code-side-by-side.png", "two codes side by side", profiles=at(NAIROBI, country="KE"), secrets=[PORTAL_ACCOUNT]
    )
    segno.make_qr("https://quillwort.example/help?token=9f2c8a").save(str(m.files / "code-link.png"), scale=5)
    m.expect("code-link.png", "code with a link", told=["https://quillwort.example/help"], error="kit-empty")
    picture = m.work / "code.png"
    segno.make_qr(SHEET, error="m").save(str(picture), scale=5)
    for form in ("docx", "odt"):
        source = m.work / f"code-in-{form}.html"
        source.write_text(
            f"<html><body><p>Scan this with your telephone:</p><img src='data:image/png;base64,{b64encode(picture.read_bytes()).decode()}'></body></html>"
        )
        convert(form, [source], m.files)
        m.expect(f"code-in-{form}.{form}", f"code in a document, {form}", profiles=ONE, secrets=[PORTAL_ACCOUNT])
    photographed("ordinary paper without any", 0, 4).crop((0, 0, 90, 80)).convert("RGB").save(
        m.files / "picture-of-text.pdf"
    )
    m.expect("picture-of-text.pdf", "PDF that is a picture", told=["picture"], error="kit-empty")
    photographed(f"Servidor: {NAIROBI}\nUsuario: {ACCOUNT}\nContraseña: Charran-2-muelle\n", -9, 16).save(
        m.files / "code-turned.jpg", quality=70
    )
    m.expect(
        "code-turned.jpg", "photographed code", "es", profiles=at(NAIROBI), secrets=[f"{ACCOUNT} Charran-2-muelle"]
    )
    # Kept aside.
    photographed(f"Serveur: {TALLINN}\nUtilisateur: {ACCOUNT}\nMot de passe: Sterne-88-ponton\n", -11, 18).save(
        m.files / "aside-code-photo.jpg", quality=65
    )
    m.expect(
        "aside-code-photo.jpg",
        "photographed code",
        "fr",
        aside=True,
        profiles=at(TALLINN),
        secrets=[f"{ACCOUNT} Sterne-88-ponton"],
    )


def make_certificates(m: Maker) -> None:
    """Certificates and keys by openssl: alone, beside sheets, expired, in every wrapping."""
    work = m.work / "pki"
    work.mkdir()
    subject = "/O=Quillwort Relay/CN=Quillwort Relay Root"
    run(
        "openssl",
        "req",
        "-x509",
        "-newkey",
        "ec",
        "-pkeyopt",
        "ec_paramgen_curve:P-256",
        "-nodes",
        "-keyout",
        "ca.key",
        "-out",
        "ca.pem",
        "-days",
        "18250",
        "-subj",
        subject,
        "-addext",
        "keyUsage=critical,keyCertSign,cRLSign",
        cwd=work,
    )
    run("openssl", "x509", "-in", "ca.pem", "-outform", "DER", "-out", "ca.der", cwd=work)
    run("openssl", "crl2pkcs7", "-nocrl", "-certfile", "ca.pem", "-outform", "DER", "-out", "ca.p7b", cwd=work)
    run(
        "openssl",
        "req",
        "-newkey",
        "ec",
        "-pkeyopt",
        "ec_paramgen_curve:P-256",
        "-nodes",
        "-keyout",
        "heron.key",
        "-out",
        "heron.csr",
        "-subj",
        "/CN=heron.tidewrack.example",
        cwd=work,
    )
    (work / "client.cnf").write_text(
        "extendedKeyUsage=clientAuth\nsubjectAltName=DNS:heron.tidewrack.example\nkeyUsage=digitalSignature\n"
    )
    run(
        "openssl",
        "x509",
        "-req",
        "-in",
        "heron.csr",
        "-CA",
        "ca.pem",
        "-CAkey",
        "ca.key",
        "-CAcreateserial",
        "-days",
        "18250",
        "-extfile",
        "client.cnf",
        "-out",
        "heron.pem",
        cwd=work,
    )
    run(
        "openssl",
        "pkcs12",
        "-export",
        "-in",
        "heron.pem",
        "-inkey",
        "heron.key",
        "-certfile",
        "ca.pem",
        "-out",
        "heron.p12",
        "-passout",
        "pass:guillemot",
        cwd=work,
    )
    expired = work / "old"
    expired.mkdir()
    (expired / "index.txt").write_text("")
    (expired / "serial").write_text("01\n")
    (work / "ca.cnf").write_text(
        "[ca]\ndefault_ca=d\n[d]\ndir=old\ndatabase=old/index.txt\nserial=old/serial\nnew_certs_dir=old\ndefault_md=sha256\npolicy=p\nx509_extensions=e\n[p]\ncommonName=supplied\n[e]\nbasicConstraints=critical,CA:TRUE\nkeyUsage=critical,keyCertSign\n"
    )
    run(
        "openssl",
        "req",
        "-newkey",
        "ec",
        "-pkeyopt",
        "ec_paramgen_curve:P-256",
        "-nodes",
        "-keyout",
        "old.key",
        "-out",
        "old.csr",
        "-subj",
        "/CN=Quillwort Relay Old Root",
        cwd=work,
    )
    run(
        "openssl",
        "ca",
        "-batch",
        "-selfsign",
        "-config",
        "ca.cnf",
        "-keyfile",
        "old.key",
        "-in",
        "old.csr",
        "-out",
        "old.pem",
        "-startdate",
        "20150101000000Z",
        "-enddate",
        "20200101000000Z",
        cwd=work,
    )
    authority = (work / "ca.pem").read_bytes()
    sheet = f"Server: {LISBON}\nCountry: Portugal\n"
    for form in ("pem", "der", "p7b"):
        for name, data in (("sheet.txt", sheet.encode()), (f"authority.{form}", (work / f"ca.{form}").read_bytes())):
            there = m.files / f"certificate-{form}" / name
            there.parent.mkdir(exist_ok=True)
            there.write_bytes(data)
        m.expect(
            f"certificate-{form}", f"authority beside a sheet, {form}", profiles=[{"hosts": [LISBON], "authorities": 1}]
        )
    m.kit("certificate-alone.crt", authority, "authority alone", error="kit-empty", told=["Quillwort Relay Root"])
    m.kit(
        "certificate-expired.crt",
        (work / "old.pem").read_bytes(),
        "expired authority alone",
        error="kit-empty",
        told=["Quillwort Relay Old Root"],
    )
    for name, data in (("sheet.txt", sheet.encode()), ("heron.p12", (work / "heron.p12").read_bytes())):
        there = m.files / "certificate-p12" / name
        there.parent.mkdir(exist_ok=True)
        there.write_bytes(data)
    m.expect(
        "certificate-p12",
        "own certificate beside a sheet, PKCS #12",
        profiles=[{"hosts": [LISBON], "authorities": 1}],
        secrets=["client-key"],
        passphrases=["guillemot"],
    )
    # Kept aside.
    for name, data in (
        ("Anleitung.txt", f"Servername: {TALLINN}\nAnmeldung: Zertifikat\nLand: Estland\n".encode()),
        ("heron.p12", (work / "heron.p12").read_bytes()),
        ("Wurzel.cer", (work / "ca.der").read_bytes()),
    ):
        there = m.files / "aside-certificate-p12" / name
        there.parent.mkdir(exist_ok=True)
        there.write_bytes(data)
    m.expect(
        "aside-certificate-p12",
        "own certificate beside a sheet, PKCS #12",
        "de",
        aside=True,
        profiles=[{"hosts": [TALLINN], "country": "EE", "authorities": 1}],
        secrets=["client-key"],
        passphrases=["guillemot"],
    )


MAKERS: tuple[Callable[[Maker], None], ...] = (make_mails, make_tables, make_archives, make_codes, make_certificates)


def make_others(files: Path, work: Path) -> list[Outcome]:
    """All of them."""
    maker = Maker(files, work)
    for make in MAKERS:
        make(maker)
    return maker.made
