//! What a definition says once and means several times: `like`, `for_each`, `{host}`.

use std::fs;

use crate::harness::Place;

const HALLS: &str = "
[[list.hall]]
name = 'north'
port = 5433
[[list.hall]]
name = 'south'
port = 5434
required = true
";

const DESK: &str = "
[app.desk]
no_hold = 'a test'
expected_every = '1d'
[[app.desk.part]]
name = 'settings'
command = ['echo', 'desk']
[[app.desk.part]]
name = 'list'
command = ['echo', 'list']
";

/// The plan of an application in full.
fn plan(place: &Place, app: &str) -> String {
    place.gullet(&["plan", app, "--full"]).exits(0).out
}

#[test]
fn a_part_is_written_once_for_all_items_of_a_list() {
    let place = Place::new();
    place.define(&format!(
        "{HALLS}{DESK}[[app.desk.part]]\nfor_each = 'hall'\nname = 'hall-{{hall.name}}'\n\
         command = ['printf', '%s', 'port {{hall.port}}', '{{hall.name}}.${{run}}']\n"
    ));
    place.gullet(&["store", "new", "depot"]).exits(0);
    let plan = plan(&place, "desk");
    assert!(plan.contains("hall-north") && plan.contains("port 5433"), "{plan}");
    let run = place.gullet(&["run", "desk", "--json"]);
    assert!(run.code == 0 || run.code == 6, "{}", run.out);
    let text = place.record()["definition"].to_string();
    // What is kept is what was executed.
    assert!(text.contains("hall-south") && !text.contains("for_each") && !text.contains("{hall."), "{text}");
    let into = place.text("back");
    place.gullet(&["restore", "desk@latest", "--into", &into, "--part", "hall-south"]);
    let files = place.files_below("back");
    assert!(
        files.iter().any(|file| fs::read_to_string(file).is_ok_and(|text| text.contains("port 5434"))),
        "{files:?}"
    );
}

#[test]
fn keys_of_items_stand_over_those_of_the_template_and_keep_their_type() {
    let place = Place::new();
    place.define(&format!(
        "{HALLS}{DESK}[[app.desk.part]]\nfor_each = 'hall'\nname = 'hall-{{hall.name}}'\nrequired = false\n\
         postgres = {{ databases = ['*'], port = '{{hall.port}}' }}\n"
    ));
    place.gullet(&["store", "new", "depot"]).exits(0);
    // There is no such server: what the run asked for is in its record all the same.
    place.gullet(&["run", "desk"]);
    let record = place.record();
    let definition = record["definition"].as_str().unwrap();
    let part = |name: &str| definition.split("[[app.desk.part]]").find(|part| part.contains(name)).unwrap();
    let (north, south) = (part("hall-north"), part("hall-south"));
    assert!(north.contains("port = 5433") && !north.contains("required"), "{definition}");
    assert!(south.contains("port = 5434") && south.contains("required = true"), "{definition}");
}

#[test]
fn applications_and_hold_steps_are_written_once_too() {
    let place = Place::new();
    place.define(
        "[[list.desk]]\nname = 'north'\nmax_hold = '20s'\n[[list.desk]]\nname = 'south'\n\
         [[list.door]]\nname = 'front'\n[[list.door]]\nname = 'back'\n\
         [app.'desk-{desk.name}']\nfor_each = 'desk'\nmax_hold = '1m'\n\
         [[app.'desk-{desk.name}'.hold]]\nfor_each = 'door'\nname = '{door.name}'\n\
         enter = { run = ['touch', '/tmp/none-{desk.name}-{door.name}'] }\nrelease = { run = ['true'] }\n\
         entered = { run = ['true'], exit = 1 }\nreleased = { run = ['true'] }\nmanual_release = 'open it'\n\
         [[app.'desk-{desk.name}'.part]]\nname = 'a'\ncommand = ['echo', '{desk.name}']\n",
    );
    place.gullet(&["store", "new", "depot"]).exits(0);
    let north = plan(&place, "desk-north");
    assert!(north.contains("/tmp/none-north-front") && north.contains("/tmp/none-north-back"), "{north}");
    assert!(north.contains("20"), "the item's own limit: {north}");
    let south = plan(&place, "desk-south");
    assert!(south.contains("/tmp/none-south-front"), "{south}");
}

#[test]
fn an_application_is_like_another_but_for_what_it_says() {
    let place = Place::new();
    place.define(&format!(
        "{DESK}[app.kiosk]\nlike = 'desk'\ntitle = 'the kiosk'\n\
         [[app.kiosk.part]]\nname = 'list'\ncommand = ['echo', 'kiosk']\n\
         [[app.kiosk.part]]\nname = 'more'\ncommand = ['echo', 'more']\n[app.bar]\nlike = 'kiosk'\n"
    ));
    // A table that somebody calls so is no script.
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let facts = "[app.bar.facts]\nscript = { run = ['echo', 'on {host}'] }\n";
    fs::write(place.path("gullet.toml"), format!("{text}{facts}")).unwrap();
    let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
    assert!(place.json(&["plan", "bar"])["facts"]["script"] == format!("on {host}"));
    place.gullet(&["store", "new", "depot"]).exits(0);
    for app in ["kiosk", "bar"] {
        let plan = plan(&place, app);
        for wanted in ["echo desk", "echo kiosk", "echo more"] {
            assert!(plan.contains(wanted), "{app}: {wanted}: {plan}");
        }
        assert!(!plan.contains("echo list"), "{plan}");
    }
    assert!(!plan(&place, "desk").contains("kiosk"));
}

#[test]
fn the_name_of_the_machine_stands_in_values_and_not_in_scripts() {
    let place = Place::new();
    let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
    place.file(
        "gullet.toml",
        format!(
            "include = ['{{host}}.toml']\nstate = '{}'\n[store.depot]\nlocation = '{}'\n",
            place.text("state"),
            place.text("depot"),
        ),
    );
    place.file(&format!("{host}.toml"), format!("{DESK}[[app.desk.part]]\nname = 'script'\ncommand = {{ script = 'host=x; echo ${{host}} {{{{host}}', env = {{ HOST = '{{host}}' }} }}\n"));
    place.gullet(&["store", "new", "depot"]).exits(0);
    let plan = plan(&place, "desk");
    assert!(plan.contains("${host}"), "{plan}");
    let run = place.gullet(&["run", "desk"]);
    assert!(run.code == 0 || run.code == 6, "{}{}", run.out, run.err);
    let steps = place.record()["steps"].to_string();
    assert!(steps.contains("{host}"), "a script is as it was written: {steps}");
}

#[test]
fn what_is_wrong_with_it_is_said_where_it_stands() {
    let cases = [
        (
            "[app.kiosk]\nlike = 'dsk'\n",
            "like = 'dsk'",
            "there is no application `dsk` in this file",
            "did you mean \"desk\"?",
        ),
        ("[app.kiosk]\nlike = 'bar'\n[app.bar]\nlike = 'kiosk'\n", "like = 'bar'", "is like itself", ""),
        (
            "[[app.desk.part]]\nname = 'x'\nfor_each = 'halls'\n",
            "for_each = 'halls'",
            "there is no list `halls` in this file",
            "did you mean \"hall\"?",
        ),
        (
            "[[app.desk.part]]\nname = '{hall.nam}'\nfor_each = 'hall'\n",
            "name = '{hall.nam}'",
            "item 1 of the list `hall` has no `nam`",
            "",
        ),
        (
            "[app.x]\nfor_each = 'hall'\n",
            "for_each = 'hall'",
            "all applications of the list would be called `x`",
            "[app.\"x-{hall.name}\"]",
        ),
        ("[[list.run]]\nname = 'x'\n", "[[list.run]]", "a list cannot be called `run`", ""),
        (
            "[[app.desk.part]]\nname = '{hall.name}-{hall.port}'\nfor_each = 'hall'\ncommand = ['true']\n[[list.hall]]\nname = 'w'\nport = 1\nprot = 2\n",
            "prot = 2",
            "nothing uses `prot`",
            "",
        ),
        (
            "[[app.desk.part]]\nname = '{hall.name}'\nfor_each = 'hall'\ncommand = ['echo', 'a {hall.port} b']\n[[list.hall]]\nname = 'w'\nport = [1]\n",
            "command = ['echo'",
            "is a list or a table, and cannot stand within a text",
            "",
        ),
        (
            "[app.x]\nlike = 'desk'\n[app.x.facts]\nh = { run = ['echo'], dirr = '{host}' }\n",
            "dirr",
            "`dirr` is not a key",
            "did you mean `dir`?",
        ),
        ("[list]\nhall = 3\n", "hall = 3", "this is a whole number, where a list is expected", ""),
    ];
    for (more, line, message, hint) in cases {
        let place = Place::new();
        let lists = if more.starts_with("[list]") { "" } else { HALLS };
        place.define(&format!("{lists}{DESK}{more}"));
        let call = place.gullet(&["plan", "desk"]);
        // Where one application is wrong, the others can still be used; what is wrong is said all the same.
        assert!(call.err.contains(message), "{more}: {}", call.err);
        assert!(call.err.contains(hint), "{more}: {}", call.err);
        assert!(call.err.contains(line), "the line is shown: {more}: {}", call.err);
    }
}

#[test]
fn the_state_folder_does_not_depend_on_the_name_of_the_machine() {
    let place = Place::new();
    let text = format!(
        "state = '{}/{{host}}'\n[store.depot]\nlocation = '{}'\n{DESK}",
        place.text("state"),
        place.text("depot")
    );
    place.file("gullet.toml", text);
    place.gullet(&["plan", "desk"]).exits(3).says("must not depend on the machine's name").says("gullet.toml:1:9");
}
