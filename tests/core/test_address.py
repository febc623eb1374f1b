"""Addresses of countries with states, and letters that a label does not take."""

from __future__ import annotations

from amber_lane.core.address import certain_faults, faults, in_latin, mended


def test_a_state_and_its_postcode_belong_together() -> None:
    base = {"name": "Wren", "address_1": "4 Elm St", "city": "Springfield"}
    for country, region, postcode, wrong in (
        ("US", "IL", "62701", {}),
        ("US", "Illinois", "62701-1234", {}),
        ("US", "Ill", "62701", {"region"}),
        ("US", "NY", "62701", {"postcode"}),
        ("US", "", "62701", {"region"}),
        ("CA", "ON", "K1A 0B1", {}),
        ("CA", "Quebec", "K1A 0B1", {"postcode"}),
        ("AU", "nsw", "2000", {}),
        ("AU", "VIC", "2000", {"postcode"}),
        ("GB", "Yorks", "YO21 3PR", {}),
    ):
        given = {**base, "region": region, "postcode": postcode, "country": country}
        assert set(faults(given)) == set(wrong), given
        assert not certain_faults(given), "a person may let it stand"
    assert "ZIP code of US" in faults({**base, "region": "IL", "postcode": "6270", "country": "US"})["postcode"]


def test_letters_that_a_label_does_not_take_are_written_in_those_it_does() -> None:
    one = mended({"name": "Ελένη Παππά", "address_1": "4 Ermou ☂", "city": "Αθήνα", "postcode": "10563", "country": "GR"})
    assert (one["name"], one["address_1"], one["city"]) == ("Eleni Pappa", "4 Ermou", "Athina")
    assert not faults(one)


def test_a_rule_says_which_letters_go() -> None:
    greek = {"name": "Ελένη Παππά", "address_1": "4 Ermou", "city": "Αθήνα", "postcode": "10563", "country": "GR"}
    assert set(faults(greek)) == {"name", "city"} and not faults(greek, any_letters=True) and not faults(in_latin(greek))
    assert "characters" in faults({**greek, "name": "☂"}, any_letters=True)["name"], "a drawing is no letter"
