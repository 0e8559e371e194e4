"""Places in names: ISO 3166-1 codes, and cities with the three letters that people shorten them to.

The codes are those of ISO 3166-1; the short forms of cities are the ones that travellers know. A place is taken from
a file's name only where the settings themselves do not tell it.
"""

from __future__ import annotations

import re
import unicodedata
from functools import cache, lru_cache
from typing import NamedTuple

_COUNTRIES = (
    "AD Andorra|AE United Arab Emirates|AF Afghanistan|AG Antigua & Barbuda|AI Anguilla|AL Albania|AM Armenia|"
    "AO Angola|AQ Antarctica|AR Argentina|AS Samoa (American)|AT Austria|AU Australia|AW Aruba|"
    "AX Åland Islands|AZ Azerbaijan|BA Bosnia & Herzegovina|BB Barbados|BD Bangladesh|BE Belgium|"
    "BF Burkina Faso|BG Bulgaria|BH Bahrain|BI Burundi|BJ Benin|BL St Barthelemy|BM Bermuda|BN Brunei|"
    "BO Bolivia|BQ Caribbean NL|BR Brazil|BS Bahamas|BT Bhutan|BV Bouvet Island|BW Botswana|BY Belarus|"
    "BZ Belize|CA Canada|CC Cocos (Keeling) Islands|CD Congo (Dem. Rep.)|CF Central African Rep.|"
    "CG Congo (Rep.)|CH Switzerland|CI Côte d'Ivoire|CK Cook Islands|CL Chile|CM Cameroon|CN China|"
    "CO Colombia|CR Costa Rica|CU Cuba|CV Cape Verde|CW Curaçao|CX Christmas Island|CY Cyprus|"
    "CZ Czech Republic|DE Germany|DJ Djibouti|DK Denmark|DM Dominica|DO Dominican Republic|DZ Algeria|"
    "EC Ecuador|EE Estonia|EG Egypt|EH Western Sahara|ER Eritrea|ES Spain|ET Ethiopia|FI Finland|FJ Fiji|"
    "FK Falkland Islands|FM Micronesia|FO Faroe Islands|FR France|GA Gabon|GB Britain (UK)|GD Grenada|"
    "GE Georgia|GF French Guiana|GG Guernsey|GH Ghana|GI Gibraltar|GL Greenland|GM Gambia|GN Guinea|"
    "GP Guadeloupe|GQ Equatorial Guinea|GR Greece|GS South Georgia & the South Sandwich Islands|GT Guatemala|"
    "GU Guam|GW Guinea-Bissau|GY Guyana|HK Hong Kong|HM Heard Island & McDonald Islands|HN Honduras|HR Croatia|"
    "HT Haiti|HU Hungary|ID Indonesia|IE Ireland|IL Israel|IM Isle of Man|IN India|"
    "IO British Indian Ocean Territory|IQ Iraq|IR Iran|IS Iceland|IT Italy|JE Jersey|JM Jamaica|JO Jordan|"
    "JP Japan|KE Kenya|KG Kyrgyzstan|KH Cambodia|KI Kiribati|KM Comoros|KN St Kitts & Nevis|KP Korea (North)|"
    "KR Korea (South)|KW Kuwait|KY Cayman Islands|KZ Kazakhstan|LA Laos|LB Lebanon|LC St Lucia|"
    "LI Liechtenstein|LK Sri Lanka|LR Liberia|LS Lesotho|LT Lithuania|LU Luxembourg|LV Latvia|LY Libya|"
    "MA Morocco|MC Monaco|MD Moldova|ME Montenegro|MF St Martin (French)|MG Madagascar|MH Marshall Islands|"
    "MK North Macedonia|ML Mali|MM Myanmar (Burma)|MN Mongolia|MO Macau|MP Northern Mariana Islands|"
    "MQ Martinique|MR Mauritania|MS Montserrat|MT Malta|MU Mauritius|MV Maldives|MW Malawi|MX Mexico|"
    "MY Malaysia|MZ Mozambique|NA Namibia|NC New Caledonia|NE Niger|NF Norfolk Island|NG Nigeria|NI Nicaragua|"
    "NL Netherlands|NO Norway|NP Nepal|NR Nauru|NU Niue|NZ New Zealand|OM Oman|PA Panama|PE Peru|"
    "PF French Polynesia|PG Papua New Guinea|PH Philippines|PK Pakistan|PL Poland|PM St Pierre & Miquelon|"
    "PN Pitcairn|PR Puerto Rico|PS Palestine|PT Portugal|PW Palau|PY Paraguay|QA Qatar|RE Réunion|RO Romania|"
    "RS Serbia|RU Russia|RW Rwanda|SA Saudi Arabia|SB Solomon Islands|SC Seychelles|SD Sudan|SE Sweden|"
    "SG Singapore|SH St Helena|SI Slovenia|SJ Svalbard & Jan Mayen|SK Slovakia|SL Sierra Leone|SM San Marino|"
    "SN Senegal|SO Somalia|SR Suriname|SS South Sudan|ST Sao Tome & Principe|SV El Salvador|"
    "SX St Maarten (Dutch)|SY Syria|SZ Eswatini (Swaziland)|TC Turks & Caicos Is|TD Chad|TF French S. Terr.|"
    "TG Togo|TH Thailand|TJ Tajikistan|TK Tokelau|TL East Timor|TM Turkmenistan|TN Tunisia|TO Tonga|"
    "TR Turkey|TT Trinidad & Tobago|TV Tuvalu|TW Taiwan|TZ Tanzania|UA Ukraine|UG Uganda|"
    "UM US minor outlying islands|US United States|UY Uruguay|UZ Uzbekistan|VA Vatican City|VC St Vincent|"
    "VE Venezuela|VG Virgin Islands (UK)|VI Virgin Islands (US)|VN Vietnam|VU Vanuatu|WF Wallis & Futuna|"
    "WS Samoa (western)|YE Yemen|YT Mayotte|ZA South Africa|ZM Zambia|ZW Zimbabwe"
)
_CITIES = (
    "lis Lisbon PT|opo Porto PT|tll Tallinn EE|tay Tartu EE|mvd Montevideo UY|nbo Nairobi KE|mba Mombasa KE|"
    "wlg Wellington NZ|akl Auckland NZ|chc Christchurch NZ|osl Oslo NO|tos Tromsø NO|bgo Bergen NO|"
    "sto Stockholm SE|got Gothenburg SE|mma Malmö SE|cph Copenhagen DK|hel Helsinki FI|rkv Reykjavik IS|"
    "rix Riga LV|vno Vilnius LT|lon London GB|lhr London GB|man Manchester GB|edi Edinburgh GB|gla Glasgow GB|"
    "dub Dublin IE|ams Amsterdam NL|rtm Rotterdam NL|bru Brussels BE|lux Luxembourg LU|par Paris FR|"
    "cdg Paris FR|mrs Marseille FR|lys Lyon FR|ber Berlin DE|fra Frankfurt DE|ham Hamburg DE|muc Munich DE|"
    "dus Düsseldorf DE|zrh Zurich CH|gva Geneva CH|vie Vienna AT|prg Prague CZ|waw Warsaw PL|krk Kraków PL|"
    "bud Budapest HU|bts Bratislava SK|lju Ljubljana SI|mbx Maribor SI|zag Zagreb HR|beg Belgrade RS|"
    "sof Sofia BG|otp Bucharest RO|buh Bucharest RO|ath Athens GR|skg Thessaloniki GR|ist Istanbul TR|"
    "ank Ankara TR|kbp Kyiv UA|iev Kyiv UA|kiv Chisinau MD|mad Madrid ES|bcn Barcelona ES|vlc Valencia ES|"
    "rom Rome IT|fco Rome IT|mil Milan IT|mxp Milan IT|pmo Palermo IT|mla Valletta MT|lca Larnaca CY|"
    "nic Nicosia CY|tia Tirana AL|skp Skopje MK|sjj Sarajevo BA|tgd Podgorica ME|nyc New York US|"
    "jfk New York US|ewr Newark US|bos Boston US|was Washington US|iad Ashburn US|atl Atlanta US|mia Miami US|"
    "chi Chicago US|ord Chicago US|dfw Dallas US|dal Dallas US|hou Houston US|den Denver US|phx Phoenix US|"
    "slc Salt Lake City US|lax Los Angeles US|sfo San Francisco US|sjc San Jose US|sea Seattle US|"
    "pdx Portland US|las Las Vegas US|yto Toronto CA|yyz Toronto CA|yul Montreal CA|yvr Vancouver CA|"
    "yyc Calgary CA|mex Mexico City MX|qro Querétaro MX|gru São Paulo BR|sao São Paulo BR|rio Rio de Janeiro BR|"
    "eze Buenos Aires AR|bue Buenos Aires AR|scl Santiago CL|lim Lima PE|bog Bogotá CO|uio Quito EC|"
    "ccs Caracas VE|asu Asunción PY|pty Panama City PA|sjo San José CR|gua Guatemala City GT|"
    "jnb Johannesburg ZA|cpt Cape Town ZA|los Lagos NG|acc Accra GH|cai Cairo EG|cmn Casablanca MA|"
    "tun Tunis TN|alg Algiers DZ|add Addis Ababa ET|dar Dar es Salaam TZ|kgl Kigali RW|dkr Dakar SN|"
    "tyo Tokyo JP|nrt Tokyo JP|osa Osaka JP|kix Osaka JP|sel Seoul KR|icn Seoul KR|hkg Hong Kong HK|"
    "tpe Taipei TW|sin Singapore SG|kul Kuala Lumpur MY|bkk Bangkok TH|sgn Ho Chi Minh City VN|han Hanoi VN|"
    "mnl Manila PH|jkt Jakarta ID|bom Mumbai IN|del Delhi IN|blr Bengaluru IN|maa Chennai IN|cmb Colombo LK|"
    "dac Dhaka BD|ktm Kathmandu NP|isb Islamabad PK|khi Karachi PK|dxb Dubai AE|auh Abu Dhabi AE|doh Doha QA|"
    "ruh Riyadh SA|tlv Tel Aviv IL|amm Amman JO|bey Beirut LB|tbs Tbilisi GE|evn Yerevan AM|gyd Baku AZ|"
    "ala Almaty KZ|tas Tashkent UZ|syd Sydney AU|mel Melbourne AU|bne Brisbane AU|per Perth AU|adl Adelaide AU|"
    "nan Nadi FJ|- Andorra AD|- Kabul AF|- Antigua AG|- Anguilla AI|- Tirane AL|- Luanda AO|- Cordoba AR|"
    "- Salta AR|- Jujuy AR|- Tucuman AR|- Catamarca AR|- La Rioja AR|- San Juan AR|- Mendoza AR|- San Luis AR|"
    "- Rio Gallegos AR|- Ushuaia AR|- Pago Pago AS|- Lord Howe AU|- Macquarie AU|- Hobart AU|- Broken Hill AU|"
    "- Lindeman AU|- Darwin AU|- Eucla AU|- Aruba AW|- Mariehamn AX|- Barbados BB|- Ouagadougou BF|"
    "- Bahrain BH|- Bujumbura BI|- Porto-Novo BJ|- St Barthelemy BL|- Bermuda BM|- Brunei BN|- La Paz BO|"
    "- Kralendijk BQ|- Noronha BR|- Belem BR|- Fortaleza BR|- Recife BR|- Araguaina BR|- Maceio BR|- Bahia BR|"
    "- Campo Grande BR|- Cuiaba BR|- Santarem BR|- Porto Velho BR|- Boa Vista BR|- Manaus BR|- Eirunepe BR|"
    "- Rio Branco BR|- Nassau BS|- Thimphu BT|- Gaborone BW|- Minsk BY|- Belize BZ|- St Johns CA|- Halifax CA|"
    "- Glace Bay CA|- Moncton CA|- Goose Bay CA|- Blanc-Sablon CA|- Iqaluit CA|- Atikokan CA|- Winnipeg CA|"
    "- Resolute CA|- Rankin Inlet CA|- Regina CA|- Swift Current CA|- Edmonton CA|- Cambridge Bay CA|"
    "- Inuvik CA|- Creston CA|- Dawson Creek CA|- Fort Nelson CA|- Whitehorse CA|- Dawson CA|- Cocos CC|"
    "- Kinshasa CD|- Lubumbashi CD|- Bangui CF|- Brazzaville CG|- Abidjan CI|- Rarotonga CK|- Coyhaique CL|"
    "- Punta Arenas CL|- Easter CL|- Douala CM|- Shanghai CN|- Urumqi CN|- Costa Rica CR|- Havana CU|"
    "- Cape Verde CV|- Curacao CW|- Christmas CX|- Famagusta CY|- Busingen DE|- Djibouti DJ|- Dominica DM|"
    "- Santo Domingo DO|- Guayaquil EC|- Galapagos EC|- El Aaiun EH|- Asmara ER|- Ceuta ES|- Canary ES|"
    "- Fiji FJ|- Stanley FK|- Chuuk FM|- Pohnpei FM|- Kosrae FM|- Faroe FO|- Libreville GA|- Grenada GD|"
    "- Cayenne GF|- Guernsey GG|- Gibraltar GI|- Nuuk GL|- Danmarkshavn GL|- Scoresbysund GL|- Thule GL|"
    "- Banjul GM|- Conakry GN|- Guadeloupe GP|- Malabo GQ|- South Georgia GS|- Guatemala GT|- Guam GU|"
    "- Bissau GW|- Guyana GY|- Tegucigalpa HN|- Port-au-Prince HT|- Pontianak ID|- Makassar ID|- Jayapura ID|"
    "- Jerusalem IL|- Isle of Man IM|- Kolkata IN|- Chagos IO|- Baghdad IQ|- Tehran IR|- Jersey JE|"
    "- Jamaica JM|- Bishkek KG|- Phnom Penh KH|- Tarawa KI|- Kanton KI|- Kiritimati KI|- Comoro KM|"
    "- St Kitts KN|- Pyongyang KP|- Kuwait KW|- Cayman KY|- Qyzylorda KZ|- Qostanay KZ|- Aqtobe KZ|- Aqtau KZ|"
    "- Atyrau KZ|- Oral KZ|- Vientiane LA|- St Lucia LC|- Vaduz LI|- Monrovia LR|- Maseru LS|- Tripoli LY|"
    "- Monaco MC|- Marigot MF|- Antananarivo MG|- Majuro MH|- Kwajalein MH|- Bamako ML|- Yangon MM|"
    "- Ulaanbaatar MN|- Hovd MN|- Macau MO|- Saipan MP|- Martinique MQ|- Nouakchott MR|- Montserrat MS|"
    "- Malta MT|- Mauritius MU|- Maldives MV|- Blantyre MW|- Cancun MX|- Merida MX|- Monterrey MX|"
    "- Matamoros MX|- Chihuahua MX|- Ciudad Juarez MX|- Ojinaga MX|- Mazatlan MX|- Bahia Banderas MX|"
    "- Hermosillo MX|- Tijuana MX|- Kuching MY|- Maputo MZ|- Windhoek NA|- Noumea NC|- Niamey NE|- Norfolk NF|"
    "- Managua NI|- Nauru NR|- Niue NU|- Chatham NZ|- Muscat OM|- Panama PA|- Tahiti PF|- Marquesas PF|"
    "- Gambier PF|- Port Moresby PG|- Bougainville PG|- Miquelon PM|- Pitcairn PN|- Puerto Rico PR|- Gaza PS|"
    "- Hebron PS|- Madeira PT|- Azores PT|- Palau PW|- Qatar QA|- Reunion RE|- Kaliningrad RU|- Moscow RU|"
    "- Simferopol UA|- Kirov RU|- Volgograd RU|- Astrakhan RU|- Saratov RU|- Ulyanovsk RU|- Samara RU|"
    "- Yekaterinburg RU|- Omsk RU|- Novosibirsk RU|- Barnaul RU|- Tomsk RU|- Novokuznetsk RU|- Krasnoyarsk RU|"
    "- Irkutsk RU|- Chita RU|- Yakutsk RU|- Khandyga RU|- Vladivostok RU|- Ust-Nera RU|- Magadan RU|"
    "- Sakhalin RU|- Srednekolymsk RU|- Kamchatka RU|- Anadyr RU|- Guadalcanal SB|- Mahe SC|- Khartoum SD|"
    "- St Helena SH|- Longyearbyen SJ|- Freetown SL|- San Marino SM|- Mogadishu SO|- Paramaribo SR|- Juba SS|"
    "- Sao Tome ST|- El Salvador SV|- Lower Princes SX|- Damascus SY|- Mbabane SZ|- Grand Turk TC|"
    "- Ndjamena TD|- Kerguelen TF|- Lome TG|- Dushanbe TJ|- Fakaofo TK|- Dili TL|- Ashgabat TM|- Tongatapu TO|"
    "- Port of Spain TT|- Funafuti TV|- Kampala UG|- Midway UM|- Wake UM|- Detroit US|- Louisville US|"
    "- Monticello US|- Indianapolis US|- Vincennes US|- Winamac US|- Marengo US|- Petersburg US|- Vevay US|"
    "- Tell City US|- Knox US|- Menominee US|- Center US|- New Salem US|- Beulah US|- Boise US|- Anchorage US|"
    "- Juneau US|- Sitka US|- Metlakatla US|- Yakutat US|- Nome US|- Adak US|- Honolulu US|- Samarkand UZ|"
    "- Vatican VA|- St Vincent VC|- Tortola VG|- St Thomas VI|- Ho Chi Minh VN|- Efate VU|- Wallis WF|"
    "- Apia WS|- Aden YE|- Mayotte YT|- Lusaka ZM|- Harare ZW"
)
_LONG = 5
"""Letters from which a foreign spelling counts among the words of a file's name; shorter ones are words as well."""
_SHORT = {"uk", "usa", "uae"}
_NOISE = frozenset({"udp", "tcp", "vpn", "server", "gateway", "gw", "profile", "config", "settings", "exit", "node"})
"""Words of file names that say nothing about the place."""


@cache
def _noise() -> frozenset[str]:
    """With the protocols' names."""
    # Loaded here: `list` needs spellings alone, and must not wait for profiles and protocols.
    from zesty_burrow.protocols.parts import sheets

    return _NOISE.union(*(facet.name_parts for facet in sheets().values()))


_AMBIGUOUS = frozenset("in is it no to my me at be by do so am as us de la".split())  # noqa: SIM905
"""Codes that are words as well: taken only at the start of a name, or beside a city of that country."""


_ABBREVIATIONS = frozenset(("id", "ca", "ip", "cn", "dn", "ie", "sa"))
"""Codes that are short for something in this trade: identity, authority, common name; taken alone, or beside a city."""


_CITIES_AND_WORDS = frozenset(
    "man was per add del los las mad mel dal ala nan bom rio bey tas sea den mil han".split()  # noqa: SIM905
)
"""Short forms that are words as well: taken only where the country's code stands beside them."""


class NamedPlace(NamedTuple):
    """A country by its ISO 3166-1 code, and a city; either may be empty."""

    country: str = ""
    city: str = ""


_LETTERS = str.maketrans({"ø": "o", "Ø": "O", "æ": "ae", "Æ": "Ae", "ß": "ss", "ł": "l", "Ł": "L", "đ": "d", "Đ": "D"})


def folded(text: str) -> str:
    """Lower-case ASCII letters for whatever script variant a name is written in."""
    return unicodedata.normalize("NFKD", text.translate(_LETTERS)).encode("ascii", "ignore").decode().casefold()


@lru_cache(maxsize=1)
def countries() -> dict[str, str]:
    """Names by code."""
    return dict(entry.split(" ", 1) for entry in "".join(_COUNTRIES).split("|"))


@lru_cache(maxsize=1)
def _spellings() -> dict[str, str]:
    """Other spellings of countries and cities, folded: a country's code, or a city as it is called here."""
    # Loaded here: it takes a tenth of the time of `list`, which needs no spellings without `--place`.
    from importlib import resources

    text = resources.files("zesty_burrow.intake.readers").joinpath("places.txt").read_text("utf-8")
    rows = (line.split("|") for line in text.splitlines() if not line.startswith("#"))
    return {" ".join(re.findall(r"[a-z]+", folded(name))): first for first, *names in rows for name in names}


def other_spelling(text: str) -> str:
    """What a country (by its code) or a city is called here, for another spelling of it; else an empty text."""
    return _spellings().get(" ".join(re.findall(r"[a-z]+", folded(text))), "")


@lru_cache(maxsize=1)
def _country_words() -> dict[str, str]:
    words = {folded(name): code for code, name in countries().items()}
    words.update({code.casefold(): code for code in countries()})
    known = countries()
    return {**words, **{name: code for name, code in _spellings().items() if code in known}}


@lru_cache(maxsize=1)
def _words_of_names() -> dict[str, str]:
    """Countries that count among the words of a file's or a host's name."""
    own = {folded(name) for name in countries().values()} | {code.casefold() for code in countries()} | _SHORT
    return {word: code for word, code in _country_words().items() if word in own or len(word) >= _LONG}


@lru_cache(maxsize=1)
def _city_words() -> dict[str, NamedPlace]:
    words: dict[str, NamedPlace] = {}
    for entry in "".join(_CITIES).split("|"):
        short, rest = entry.split(" ", 1)
        city, code = rest.rsplit(" ", 1)
        words.setdefault(folded(city), NamedPlace(code, city))
        if short != "-":
            words.setdefault(short, NamedPlace(code, city))
    for spelling, city in _spellings().items():
        if len(spelling) >= _LONG and folded(city) in words:
            words.setdefault(spelling, words[folded(city)])
    return words


def country_code(text: str) -> str:
    """The ISO 3166-1 code for a code or a country's name; empty where it is neither."""
    words = folded(text).strip()
    return _country_words().get(words) or _country_words().get(" ".join(re.findall(r"[a-z]+", words)), "")


def place_in_name(name: str) -> NamedPlace:
    """The place that a file's or a host's name tells, as far as it tells one."""
    stem = re.sub(r"\.[a-z0-9]{2,5}$", "", name.rpartition("/")[2], flags=re.IGNORECASE)
    words = [word for word in re.split(r"[^a-z]+", folded(stem)) if word and word not in _noise()]
    city = _find_city(words)
    for position, word in enumerate(words):
        if word in _ABBREVIATIONS and not city and len(words) > 1:
            continue
        code = _words_of_names().get(word, "")
        if code and (not city or city.country == code) and (position == 0 or city or word not in _AMBIGUOUS):
            return NamedPlace(code, city.city if city else "")
    if city:
        return city
    for length in (3, 2):
        for at in range(len(words) - length + 1):
            code = _words_of_names().get(" ".join(words[at : at + length]), "")
            if code:
                return NamedPlace(code)
    return NamedPlace()


def _find_city(words: list[str]) -> NamedPlace | None:
    """The longest run of words that is a city; short forms of three letters count only by themselves."""
    known = _city_words()
    for length in (3, 2, 1):
        for at in range(len(words) - length + 1):
            place = known.get(" ".join(words[at : at + length]))
            if place is None or (words[at] in _CITIES_AND_WORDS and place.country.casefold() not in words):
                continue
            return place
    return None
