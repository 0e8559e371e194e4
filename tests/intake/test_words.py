"""Words on sheets: eleven languages, how sure a match is, how labels and values stand, and what is made of them."""

from __future__ import annotations

import tomllib
from importlib import resources

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import InputError, Malformed, ProfileInvalid
from zesty_burrow.intake.readers import layout, sheet, tables
from zesty_burrow.intake.readers.encodings import decode_untrusted
from zesty_burrow.intake.readers.vocabulary import (
    CERTAIN,
    CLOSE,
    FILLED,
    PARTLY,
    UNSURE,
    Field,
    shipped,
    with_own_words,
)

WORDS = resources.files("zesty_burrow.intake").joinpath("words")
LANGUAGES = sorted(entry.name.removesuffix(".toml") for entry in WORDS.iterdir())
HOST = "lisbon.quillwort.example"


def document(code):
    return tomllib.loads(WORDS.joinpath(f"{code}.toml").read_text("utf-8"))


@pytest.mark.parametrize("code", LANGUAGES)
def test_every_phrase_of_a_language(code):
    """Each has its meaning where the sheet is in that language, whatever its case, accents and punctuation."""
    labels = document(code)["labels"]
    phrases = [phrase for row in labels.values() for phrase in row]
    words = shipped().preferring(phrases)
    for name, row in labels.items():
        assert len(row) == len(set(row)), name
        for phrase in row:
            for form in (phrase, f"  {phrase.upper().replace(' ', '-')}. ", phrase.title()):
                assert words.match(form).field is Field(name), (form, name)


@pytest.mark.parametrize("code", LANGUAGES)
def test_the_files_say_only_what_is_known(code):
    """Keys are fields, each language has the fields that a sheet needs, and its yes is no no."""
    read = document(code)
    assert set(read) == {"language", "yes", "no", "filling", "labels"} | ({"unsure"} & set(read))
    assert {Field(name) for name in read["labels"]} >= {
        Field.HOST, Field.ACCOUNT, Field.PASSWORD, Field.NAME_SERVER, Field.NETWORKS, Field.SPLIT, Field.ALL_TRAFFIC,
        Field.SHARED_SECRET, Field.DOMAIN, Field.EVERYBODY, Field.NETBIOS, Field.PORT, Field.EMAIL,
    }  # fmt: skip
    for name, row in read.get("unsure", {}).items():
        assert Field(name) and row
    assert not set(read["yes"]) & set(read["no"])


@pytest.mark.parametrize(
    ("label", "field", "sure"),
    [
        ("Preferred DNS server", Field.NAME_SERVER, FILLED),
        ("DNS 1", Field.NAME_SERVER, FILLED),
        ("2. DNS server", Field.NAME_SERVER, CERTAIN),
        ("WINS server", Field.NETBIOS, CERTAIN),
        ("PSK", Field.SHARED_SECRET, CERTAIN),
        ("Split tunnel", Field.SPLIT, CERTAIN),
        ("Remote subnets", Field.NETWORKS, CERTAIN),
        ("Route all traffic", Field.ALL_TRAFFIC, CERTAIN),
        ("VPN name", Field.NAME, CERTAIN),
        ("Servername", Field.HOST, CERTAIN),
        ("Port", Field.PORT, CERTAIN),
        ("E-mail", Field.EMAIL, CERTAIN),
        ("Realm", Field.DOMAIN, CERTAIN),
        ("Available to all users", Field.EVERYBODY, CERTAIN),
        ("Your user name", Field.ACCOUNT, FILLED),
        ("preSharedKey", Field.SHARED_SECRET, CERTAIN),
        ("dns_servers", Field.NAME_SERVER, CERTAIN),
        ("Secret", Field.SHARED_SECRET, UNSURE),
        ("Pasword", Field.PASSWORD, CLOSE),
        ("Usernmae", Field.ACCOUNT, CLOSE),
        ("Benutzernahme", Field.ACCOUNT, CLOSE),
        ("Fuer alle Benutzer", Field.EVERYBODY, FILLED),
        ("Verschluesselung", Field.ENCRYPTION, FILLED),
        ("Contraseña", Field.PASSWORD, CERTAIN),
        ("Identité du serveur", Field.IDENTITY, CERTAIN),
        ("Põhiserver", Field.HOST, PARTLY),
        ("favourite bird", None, 0),
        ("", None, 0),
        ("x" * 5000, None, 0),
    ],
)
def test_how_sure_it_is(label, field, sure):
    found = shipped().match(label)
    assert (found and found.field, found.confidence if found else 0) == (field, sure)


def test_a_word_of_two_meanings():
    """ "Land" is a country to a German, "stato" one to an Italian, and "estado" a state of load to a Spaniard."""
    italian = shipped().preferring(["Nome utente", "Indirizzo del server", "Stato"])
    assert italian.match("Stato").field is Field.COUNTRY
    assert shipped().preferring(["Servidor", "Contraseña"]).match("Clave").field is Field.PASSWORD


@pytest.mark.parametrize(
    ("word", "answer"),
    [("Yes.", True), ("off", False), ("Ja", True), ("nein", False), ("Sí", True), ("não", False), ("perhaps", None)],
)
def test_yes_and_no(word, answer):
    assert shipped().yes_or_no(word) is answer


@given(st.text(max_size=80))
def test_any_label(label):
    found = shipped().match(label)
    assert found is None or 0 < found.confidence <= 1


# How they stand.


@pytest.mark.parametrize(
    "text",
    [
        "Server: {host}\nUsername: heron\nPassword: kelp-Forest_42",
        "Server = {host}\nUsername = heron\nPassword = kelp-Forest_42",
        "Server\t{host}\nUsername\theron\nPassword\tkelp-Forest_42",
        "Server ........ {host}\nUsername ...... heron\nPassword ...... kelp-Forest_42",
        "Server . . . . {host}\nUsername . . . heron\nPassword . . . kelp-Forest_42",
        "Server … {host}\nUsername … heron\nPassword … kelp-Forest_42",
        "Server ____ {host}\nUsername ____ heron\nPassword ____ kelp-Forest_42",
        "Server → {host}\nUsername → heron\nPassword → kelp-Forest_42",
        "| Server | {host} |\n| Username | heron |\n| Password | kelp-Forest_42 |",
        "Server      {host}\nUsername    heron\nPassword    kelp-Forest_42",
        "Server – {host}\nUsername – heron\nPassword – kelp-Forest_42",
        "1. Server: {host}\n2. Username: heron\n3. Password: kelp-Forest_42",
        "• Server: {host}\n• Username: heron\n• Password: kelp-Forest_42",
        "Server\n{host}\n\nUsername\nheron\n\nPassword\nkelp-Forest_42\n",
        "Server:\n  {host}\nUsername:\n  heron\nPassword:\n  kelp-Forest_42",
        "Serveradresse\n{host}\nBenutzername\nheron\nKennwort\nkelp-Forest_42",
        "Dear all,\n\nhere is what you need.\n\nServer: {host}\nUsername: heron\nPassword: kelp-Forest_42\n\nKind regards\nIT",
    ],
)
def test_how_labels_and_values_stand(text):
    text = text.format(host=HOST)
    assert sheet.looks_like_sheet(text)
    row = sheet.read_lines(text)
    assert (row.first(Field.HOST), row.first(Field.ACCOUNT), row.first(Field.PASSWORD)) == (
        HOST, "heron", "kelp-Forest_42",
    )  # fmt: skip
    assert row.unknown == [] and row.guessed == []


SHEETS = {
    "de": "Serveradresse: {host}\nBenutzername: heron\nKennwort: kelp\nGesamten Datenverkehr senden: nein\n"
    "Entfernte Netze: 10.20.0.0/16\nBevorzugter DNS-Server: 10.20.0.53\nFür alle Benutzer: ja",
    "fr": "Adresse du serveur : {host}\nNom d'utilisateur : heron\nMot de passe : kelp\nTunnel fractionné : oui\n"
    "Réseaux distants : 10.20.0.0/16\nServeur DNS préféré : 10.20.0.53\nPour tous les utilisateurs : oui",
    "es": "Dirección del servidor: {host}\nNombre de usuario: heron\nContraseña: kelp\nEnviar todo el tráfico: no\n"
    "Redes remotas: 10.20.0.0/16\nServidor DNS primario: 10.20.0.53\nTodos los usuarios: sí",
    "pt": "Endereço do servidor: {host}\nNome de utilizador: heron\nPalavra-passe: kelp\nTúnel dividido: sim\n"
    "Redes remotas: 10.20.0.0/16\nServidor DNS preferido: 10.20.0.53\nPara todos os utilizadores: sim",
    "it": "Indirizzo del server: {host}\nNome utente: heron\nPassword: kelp\nTutto il traffico: no\n"
    "Reti remote: 10.20.0.0/16\nServer DNS primario: 10.20.0.53\nPer tutti gli utenti: sì",
    "nl": "Serveradres: {host}\nGebruikersnaam: heron\nWachtwoord: kelp\nAl het verkeer: nee\n"
    "Externe netwerken: 10.20.0.0/16\nDNS-server 1: 10.20.0.53\nVoor alle gebruikers: ja",
    "nb": "Tjeneradresse: {host}\nBrukernavn: heron\nPassord: kelp\nSend all trafikk: nei\n"
    "Eksterne nettverk: 10.20.0.0/16\nForetrukket DNS-server: 10.20.0.53\nFor alle brukere: ja",
    "pl": "Adres serwera: {host}\nNazwa użytkownika: heron\nHasło: kelp\nCały ruch: nie\n"
    "Sieci zdalne: 10.20.0.0/16\nPreferowany serwer DNS: 10.20.0.53\nDla wszystkich użytkowników: tak",
    "sl": "Naslov strežnika: {host}\nUporabniško ime: heron\nGeslo: kelp\nVes promet: ne\n"
    "Oddaljena omrežja: 10.20.0.0/16\nStrežnik DNS: 10.20.0.53\nZa vse uporabnike: da",
    "et": "Serveri aadress: {host}\nKasutajanimi: heron\nParool: kelp\nKogu liiklus: ei\n"
    "Kaugvõrgud: 10.20.0.0/16\nDNS-server: 10.20.0.53\nKõigile kasutajatele: jah",
    "en": "Server address: {host}\nUser name: heron\nPassword: kelp\nSplit tunnel: yes\n"
    "Remote subnets: 10.20.0.0 255.255.0.0\nDNS 1: 10.20.0.53\nAvailable to all users: yes",
}


@pytest.mark.parametrize("code", LANGUAGES)
def test_a_sheet_of_each_language(code):
    """The same set-up on each: only the office's network goes through, names are asked there, others may use it."""
    made = sheet.draft(sheet.read_lines(SHEETS[code].format(host=HOST)), "sheet", "Tidewrack Survey")
    assert made.profile.gateway.addresses == (HOST,)
    assert [str(one) for one in made.profile.traffic.networks] == ["10.20.0.0/16"]
    assert [str(one) for one in made.profile.traffic.name_servers] == ["10.20.0.53"]
    assert made.credentials[0].name == "heron" and made.credentials[0].password == Secret("kelp")
    assert {one.code.slug for one in made.findings} == {"for-everybody"}


# What is made of it.


def drafted(text):
    return sheet.draft(
        sheet.read_lines(f"Server: {HOST}\nUsername: heron\nPassword: kelp\n{text}"), "sheet", "Quillwort"
    )


@pytest.mark.parametrize(
    ("text", "networks"),
    [
        ("Split tunnel: no", ["0.0.0.0/0", "::/0"]),
        ("Split tunnel: 10.20.0.0/16", ["10.20.0.0/16"]),
        ("Split tunnelling: yes\nNetworks: 10.20.0.0/255.255.0.0, 10.30.0.0/16", ["10.20.0.0/16", "10.30.0.0/16"]),
        ("Networks: 10.20.0.0 mask 255.255.0.0", ["10.20.0.0/16"]),
        ("Use default gateway on remote network: yes", ["0.0.0.0/0", "::/0"]),
    ],
)
def test_which_traffic(text, networks):
    assert [str(one) for one in drafted(text).profile.traffic.networks] == networks


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("Split tunnel: yes", "its networks are not named"),
        ("Use default gateway on remote network: no", "its networks are not named"),
        ("Split tunnel: yes\nAll traffic: yes\nNetworks: 10.20.0.0/16", "says both"),
    ],
)
def test_never_everything_in_silence(text, why):
    """A split tunnel without its networks is no tunnel for everything: it is refused, with what to ask for."""
    with pytest.raises(ProfileInvalid, match=why):
        drafted(text)


@pytest.mark.parametrize(
    ("text", "slug", "detail"),
    [
        ("Mtuu: 1300", "sheet-not-understood", "Mtuu"),
        ("Name serverr: 10.20.0.53", "sheet-guessed", "Name serverr: taken for name server (60% sure)"),
        ("Port: 7443", "sheet-not-taken", "port 7443"),
        ("Encryption: AES-256", "sheet-not-taken", "encryption: AES-256"),
        ("Transport: pigeon", "sheet-not-taken", "transport: pigeon"),
        ("Favourite bird: heron", "sheet-not-understood", "Favourite bird"),
        ("Phone: 0123", "sheet-not-needed", "Phone"),
        ("Load: 17 %\nFax: 45", "sheet-not-needed", "Load, Fax"),
    ],
)
def test_what_is_pointed_out(text, slug, detail):
    """No line is dropped silently."""
    assert (slug, detail) in {(one.code.slug, one.detail) for one in drafted(text).findings}


@pytest.mark.parametrize("text", ["Port: 500, 4500", "Ports: UDP 500 and 4500", "Transport: UDP"])
def test_what_needs_no_word(text):
    assert drafted(text).findings == []


@pytest.mark.parametrize(
    ("text", "transport", "port"),
    [
        ("Transport: TCP", "tcp", 4500), ("Transport: TCP\nPort: 443", "tcp", 443), ("Transport: UDP", "udp", 500),
        ("Transport: UDP or TCP", "udp", 500), ("Transport: TCP\nPort: TCP 10443", "tcp", 10443),
    ],
)  # fmt: skip
def test_tcp(text, transport, port):
    """RFC 9329: where a sheet says TCP, its port as well; a gateway that has both is reached by UDP."""
    settings = drafted(text).profile.settings
    assert (settings.transport, settings.port) == (transport, port)


def test_an_address_for_an_account():
    """Where no other name is on the sheet, and said so."""
    made = sheet.draft(sheet.read_lines(f"Server: {HOST}\nE-mail: heron@survey.example\nPassword: kelp"), "sheet")
    assert made.credentials[0].name == "heron@survey.example"
    assert [one.code.slug for one in made.findings] == ["sheet-guessed"]


def test_a_table_with_other_words():
    """Columns in another language, with comment lines and semicolons; one that nobody knows is told and hurts nothing."""
    text = "# Stand 2026\nStadt;Land;Adresse;Auslastung;Vogel\nLissabon;PT;lisbon.quillwort.example;17;heron\n"
    assert tables.looks_like_table(text)
    (row,) = tables.read_table(text)
    assert (row.first(Field.CITY), row.first(Field.HOST), row.unknown) == ("Lissabon", HOST, ["Vogel"])


# The user's own words.


@pytest.mark.parametrize(
    ("data", "text", "guessed"),
    [
        ("Ort: Tromsø".encode(), "Ort: Tromsø", ""),
        ("Ort: Tromsø".encode("utf-8-sig"), "Ort: Tromsø", ""),
        ("Ort: Tromsø".encode("utf-16"), "Ort: Tromsø", ""),
        ("Ort: Tromsø".encode("utf-16-le"), "Ort: Tromsø", "UTF-16-LE"),
        ("Ort: Tromsø".encode("utf-16-be"), "Ort: Tromsø", "UTF-16-BE"),
        ("Ort: Tromsø".encode("cp1252"), "Ort: Tromsø", "cp1252"),
        ("“Tromsø” – 10 €".encode("cp1252"), "“Tromsø” – 10 €", "cp1252"),
        (b"Ort: Troms\x81", "Ort: Troms\x81", "latin-1"),
    ],
)
def test_encodings(data, text, guessed):
    assert decode_untrusted(data, "sheet") == (text, guessed)


@given(st.binary(max_size=200))
def test_any_octets(data):
    try:
        assert isinstance(decode_untrusted(data, "sheet").text, str)
    except Malformed as problem:
        assert "sheet" in str(problem)


def test_own_words():
    words = with_own_words('[labels]\nhost = ["Strandzugang"]\npassword = ["Parole"]\n', "words.toml")
    row = sheet.read_lines(f"Strandzugang: {HOST}\nUser: heron\nParole: kelp", words)
    assert (row.first(Field.HOST), row.first(Field.PASSWORD)) == (HOST, "kelp")
    assert shipped().match("Strandzugang") is None


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("[labels", "not TOML"),
        ('[labels]\nhots = ["x"]', "hots"),
        ('[labels]\nhost = "x"', "list of texts"),
        ("labels = 3", "list of texts"),
        ("yes = [1]", "list of texts"),
    ],
)
def test_own_words_that_are_wrong(text, why):
    with pytest.raises(InputError, match=why):
        with_own_words(text, "words.toml")


@given(st.text(max_size=400))
def test_any_text_in_any_layout(text):
    for pair in layout.pairs(text, shipped()):
        assert pair.label.strip() and pair.value.strip()


@pytest.mark.parametrize(
    ("said", "method"),
    [
        ("Certificate", "certificate"), ("Zertifikat", "certificate"), ("certificat", "certificate"),
        ("certificado digital", "certificate"), ("certificaat", "certificate"), ("Sertifikat", "certificate"),
        ("certyfikat", "certificate"), ("digitalno potrdilo", "certificate"), ("sertifikaat", "certificate"),
        ("PSK", "pre-shared-key"), ("shared key", "pre-shared-key"), ("gemeinsamer Schlüssel", "pre-shared-key"),
        ("clé partagée", "pre-shared-key"), ("chiave precondivisa", "pre-shared-key"), ("jagatud võti", "pre-shared-key"),
        ("raw public key", "raw-public-key"), ("Name und Passwort", "eap-mschapv2"), ("user name and password", "eap-mschapv2"),
    ],
)  # fmt: skip
def test_how_to_sign_in(said, method):
    """As sheets of each language say it."""
    made = sheet.draft(sheet.read_lines(f"Server: {HOST}\nAuthentication: {said}\nPre-shared key: kelp"), "sheet")
    assert made.profile.sign_in.method == method


@pytest.mark.parametrize(
    ("text", "hosts"),
    [
        ("Server: a.example\nServer: b.example\n", [["a.example"], ["b.example"]]),
        ("Server: a.example\nBackup server: b.example\n", [["a.example", "b.example"]]),
        ("Server: a.example\nServer (spare): b.example\n", [["a.example", "b.example"]]),
        ("City: Lisbon\nServer: a.example\nCity: Tallinn\nServer: b.example\n", [["a.example"], ["b.example"]]),
        ("Lisbon   lisbon.q.example\nTallinn  tallinn.q.example\n", [["lisbon.q.example"], ["tallinn.q.example"]]),
        ("Lisbon: lisbon.q.example\n", [["lisbon.q.example"]]),
        ("In Lisbon it is x.q.example, in Nairobi y.q.example.\n", [["x.q.example"], ["y.q.example"]]),
        ("1. x.q.example (Tallinn, Estonia)\n2. y.q.example (Faro, Portugal)\n", [["x.q.example"], ["y.q.example"]]),
        ("See https://lisbon.q.example/help or write to desk@lisbon.q.example.\n", []),
        ("The file lisbon.pdf and www.lisbon.example.\n", []),
    ],
)
def test_several_gateways(text, hosts):
    """Each gets a row of its own, with what stands there once for all."""
    rows = sheet.read_sheet(f"Account: heron\nPassword: kelp\nProvider: Quillwort Relay\n{text}")
    assert [row.values[Field.HOST] for row in rows if row.first(Field.HOST)] == hosts
    assert all(row.first(Field.PROVIDER) == "Quillwort Relay" for row in rows)
    assert [row.first(Field.PASSWORD) for row in rows] == ["kelp"] + [""] * (len(rows) - 1)


@given(st.text(max_size=400))
def test_every_line_is_taken_or_named(text):
    """Whatever a text is: no line is nowhere."""
    rows = sheet.read_sheet(text)
    prose = {
        number
        for part in rows[0].prose.split(", ") if part
        for number in range(int(part.partition("-")[0]), int(part.rpartition("-")[2]) + 1)
    }  # fmt: skip
    lines = {number for number, line in enumerate(text.splitlines(), 1) if line.strip()}
    taken = {number for pair in layout.pairs(text, shipped()) for number in (pair.at, pair.label_at)}
    assert prose <= lines and lines - prose <= taken | prose


@pytest.mark.parametrize(
    ("text", "count"),
    [
        ("Server lisbon.example\nUsername heron\nPassword kelp\nCountry Portugal", 4),
        ("Server  lisbon.example   Username  heron\nPassword  kelp   Country  Portugal", 4),
        ("Server is down today.\nPassword rules apply.\nAccount opening takes long.", 3),
    ],
)
def test_labels_with_little_between(text, count):
    """A blank is enough where several lines begin so; four columns are two pairs."""
    assert sum(pair.known for pair in layout.pairs(text, shipped())) == count
