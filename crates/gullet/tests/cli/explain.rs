//! `gullet explain`: every key of the definition at hand.

use crate::harness::Place;

#[test]
fn tables_keys_and_topics_are_explained_by_any_name_that_means_them() {
    let place = Place::new();
    place.gullet(&["explain"]).exits(0).says("app.NAME.part").says("placeholders");
    for name in ["part", "app.part", "app.NAME.part"] {
        place.gullet(&["explain", name]).exits(0).says("must_contain").says("name (required)");
    }
    for name in ["part.must_contain", "must_contain", "app.NAME.part.must_contain"] {
        place.gullet(&["explain", name]).exits(0).says("app.NAME.part.must_contain").says("must_contain = [");
    }
    // A key that probes have in common with commands is explained where it is at home.
    place.gullet(&["explain", "hold.entered"]).exits(0).says("entered = ");
    place.gullet(&["explain", "requirement"]).exits(0).says("And the keys of a command");
    place.gullet(&["explain", "capture_method"]).exits(0).says("\"snapshot\": ");
    for (topic, text) in [
        ("hooks", "GULLET_NOTES"),
        ("probes", "every_line"),
        ("placeholders", "{fact.PART.NAME}"),
        ("exit-codes", "not released"),
        ("json-output", "gullet runs"),
        ("record", "holdings"),
    ] {
        place.gullet(&["explain", topic]).exits(0).says(text);
    }
    place
        .gullet(&["explain", "part.sqlit"])
        .exits(2)
        .says("nothing is called `part.sqlit`")
        .says("did you mean `sqlite`?");
    place.gullet(&["explain", "hold.sqlite"]).exits(2);
    let json = place.json(&["explain", "store.copies"]);
    assert_eq!(json["keys"][0]["key"]["name"], "copies", "{json}");
    assert_eq!(json["keys"][0]["table"], "store.NAME");
}

#[test]
fn every_key_of_the_schema_is_in_the_manual_page() {
    let place = Place::new();
    std::fs::create_dir(place.path("man1")).unwrap();
    place.gullet(&["manual", &place.text("man1")]).exits(0);
    let page = std::fs::read_to_string(place.path("man5/gullet.toml.5")).unwrap();
    let schema = gullet_model::definition::schema();
    let tables = schema["$defs"].as_object().unwrap().values().chain([&schema]);
    let keys = tables.filter_map(|table| table["properties"].as_object()).flat_map(serde_json::Map::keys);
    let missing: Vec<&String> = keys.filter(|key| !page.contains(&key.replace('-', "\\-"))).collect();
    assert!(missing.is_empty(), "{missing:?}");
    assert!(
        place.path("man1/gullet.1").is_file() && page.starts_with(".ie") || page.contains(".TH"),
        "{}",
        &page[..80]
    );
}
