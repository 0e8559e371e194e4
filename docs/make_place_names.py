"""Writes the names of countries and cities in several spellings, from Unicode's CLDR by way of Babel.

    pip install babel && python docs/make_place_names.py

Countries: in the languages of the set-up sheets and in their own. Cities: those that CLDR names for time zones, and some
more below. One line each: what the program calls it, then the other spellings.
"""

from __future__ import annotations

from pathlib import Path

from babel import Locale, UnknownLocaleError
from babel.languages import get_official_languages

from zesty_burrow.intake.readers.places import countries, folded, place_in_name

LANGUAGES = ("en", "de", "fr", "es", "pt", "it", "nl", "nb", "pl", "sl", "et")
TARGET = Path(__file__).parent.parent / "src/zesty_burrow/intake/readers/places.txt"
MORE_COUNTRIES = {
    "US": [
        "America",
        "USA",
        "U.S.A.",
        "United States of America",
        "the States",
        "EUA",
        "EE. UU.",
        "EE.UU.",
        "ZDA",
        "VSA",
    ],
    "GB": [
        "UK",
        "U.K.",
        "Great Britain",
        "England",
        "Scotland",
        "Wales",
        "Großbritannien",
        "Angleterre",
        "Inglaterra",
        "Inghilterra",
        "Engeland",
        "Anglia",
        "Anglija",
        "Velika Britanija",
        "Suurbritannia",
        "Gran Bretaña",
        "Gran Bretagna",
    ],
    "NL": ["Holland", "Hollande", "Holanda", "Olanda", "Holandia"],
    "CZ": ["Czechia", "Czech Republic", "Tschechien", "Česká republika"],
    "KR": ["Korea", "South Korea"],
    "RU": ["Russia"],
    "AE": ["UAE", "Emirates"],
    "CH": ["Suisse", "Schweiz", "Svizzera"],
}
MORE_CITIES = {
    "Munich": ["München", "Muenchen", "Monaco di Baviera", "Múnich", "Munique", "Monachium"],
    "Cologne": ["Köln", "Koeln", "Colonia", "Keulen", "Kolonia"], "Nuremberg": ["Nürnberg", "Nuernberg", "Norimberga"],
    "Frankfurt": ["Frankfurt am Main", "Francfort", "Francoforte"], "Hanover": ["Hannover"],
    "Milan": ["Milano", "Mailand", "Milão", "Milaan", "Mediolan", "Milán"], "Turin": ["Torino", "Turín"],
    "Florence": ["Firenze", "Florenz", "Florencia"], "Venice": ["Venezia", "Venedig", "Venise"], "Naples": ["Napoli", "Neapel"],
    "Rome": ["Roma", "Rom"], "Genoa": ["Genova", "Genua"], "Geneva": ["Genève", "Genf", "Ginebra", "Ginevra"],
    "Zurich": ["Zürich", "Zuerich"], "Basel": ["Bâle", "Basilea"], "Antwerp": ["Antwerpen", "Anvers"],
    "The Hague": ["Den Haag", "La Haye"], "Brussels": ["Bruxelles", "Brussel", "Brüssel"], "Gothenburg": ["Göteborg"],
    "Copenhagen": ["København", "Kopenhagen"], "Helsinki": ["Helsingfors"], "Krakow": ["Kraków", "Krakau", "Cracow"],
    "Warsaw": ["Warszawa", "Warschau"], "Wroclaw": ["Wrocław", "Breslau"], "Gdansk": ["Gdańsk", "Danzig"],
    "Prague": ["Praha", "Prag"], "Vienna": ["Wien"], "Lisbon": ["Lisboa"], "Porto": ["Oporto"], "Seville": ["Sevilla"],
    "Barcelona": ["Barcelone"], "Marseille": ["Marseilles"], "Lyon": ["Lyons"], "Nice": ["Nizza"],
    "Strasbourg": ["Straßburg", "Strassburg"], "Athens": ["Athína", "Athen"], "Bucharest": ["București", "Bukarest"],
    "Belgrade": ["Beograd", "Belgrad"], "Ljubljana": ["Laibach"], "Moscow": ["Moskva", "Moskau"], "Kyiv": ["Kiev", "Kiew"],
    "Tallinn": ["Tallin", "Talin"], "Tromsø": ["Tromso", "Tromsoe"], "New York": ["New York City", "NYC", "Nueva York"],
    "Mexico City": ["Ciudad de México"], "Sao Paulo": ["São Paulo"], "Cape Town": ["Kapstadt", "Kaapstad"],
    "Tokyo": ["Tokio"], "Beijing": ["Peking"], "Mumbai": ["Bombay"], "Singapore": ["Singapur"],
}  # fmt: skip


def locales(codes: list[str]) -> list[Locale]:
    """Those that CLDR knows."""
    found = []
    for code in codes:
        try:
            found.append(Locale.parse(code))
        except (UnknownLocaleError, ValueError):
            continue
    return found


def main() -> None:
    """Write the file."""
    sheets = locales(list(LANGUAGES))
    lines = [
        "# Made by docs/make_place_names.py from Unicode's CLDR: a country's code or a city's name, then other spellings."
    ]
    taken: set[str] = set()
    for code, name in countries().items():
        own = locales(list(get_official_languages(code)))
        names = [*MORE_COUNTRIES.get(code, ()), *(str(one.territories.get(code, "")) for one in (*sheets, *own))]
        lines.append("|".join((code, *fresh([folded(name), *taken], names, taken))))
    cities: dict[str, list[str]] = {name: list(names) for name, names in MORE_CITIES.items()}
    for zone in sorted(set().union(*(one.time_zones for one in sheets))):
        english = zone.rpartition("/")[2].replace("_", " ")
        place = place_in_name(english)
        if place.city:
            own = locales(list(get_official_languages(place.country)))
            names = [str(one.time_zones.get(zone, {}).get("city", "")) for one in (*sheets, *own)]
            cities.setdefault(place.city, []).extend(names)
    for city, names in sorted(cities.items()):
        if found := fresh([folded(city), *taken], names, taken):
            lines.append("|".join((city, *found)))
    TARGET.write_text("\n".join(lines) + "\n", "utf-8")
    print(len(lines) - 1, "places,", sum(line.count("|") for line in lines), "spellings")


def fresh(known: list[str], names: list[str], taken: set[str]) -> list[str]:
    """Names in Latin letters that are not known yet, each once."""
    found = []
    seen = set(known)
    for name in names:
        plain = folded(name)
        if plain and plain not in seen and len(plain) >= len(name) - 2:
            seen.add(plain)
            taken.add(plain)
            found.append(name)
    return found


if __name__ == "__main__":
    main()
