//! The report in a real browser: what it shows there are the figures of `gullet runs --json`, without script and network.

use std::fs;
use std::process::Command;

use crate::harness::Place;

/// The browser without a window, with nothing to reach: every name and address leads to a closed port.
fn browser(place: &Place, arguments: &[&str]) -> String {
    let profile = format!("--user-data-dir={}", place.text("profile"));
    let usual = [
        "--headless=new",
        "--no-sandbox",
        "--disable-gpu",
        "--proxy-server=127.0.0.1:9",
        "--disable-javascript",
        &profile,
    ];
    let output = Command::new("chromium").args(usual).args(arguments).output().expect("chromium is installed");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

#[test]
fn a_report_shows_in_a_browser_what_the_runs_are() {
    let place = Place::new();
    place.define(
        "[app.desk]\ntitle = 'Booking desk'\nno_hold = 'a test'\n[[app.desk.part]]\nname = 'docs'\nrequired = true\nfiles = ['@/docs']\n\
         [app.ledger]\nno_hold = 'a test'\n[[app.ledger.part]]\nname = 'a'\ncommand = ['sh', '-c', 'exit 3']\n",
    );
    place.file("docs/a", "one");
    place.gullet(&["store", "new", "depot"]).exits(0);
    for day in [9, 5, 1] {
        place.gullet_at(&format!("-{day}d"), &["run", "desk"]).exits(0);
    }
    place.gullet_at("-2d", &["run", "ledger"]);
    let out = place.text("report.html");
    place.gullet(&["report", "--out", &out]).exits(0);
    let url = format!("file://{out}");
    let shown = browser(&place, &["--dump-dom", &url]);
    let runs = place.runs();
    let ended = |outcome: &str| runs.iter().filter(|run| run["app"] == "desk" && run["outcome"] == outcome).count();
    assert_eq!(ended("complete"), 3);
    // A square a day, in the browser's own tree: three of complete runs, besides the two of the legends.
    assert_eq!(shown.matches("class=\"day good\"").count(), 3 + 2, "{shown}");
    assert_eq!(shown.matches("class=\"day bad\"").count(), 1 + 2);
    for run in runs.iter().filter(|run| run["app"] == "desk") {
        let day = &run["started"].as_str().unwrap()[..10];
        assert!(shown.contains(&format!("{day}: complete</title>")), "{day}");
    }
    let newest = runs.iter().rfind(|run| run["app"] == "desk").unwrap();
    assert!(shown.contains(newest["run"].as_str().unwrap()));
    let hash = newest["record"].as_str().unwrap().rsplit_once('-').unwrap().1.trim_end_matches(".json");
    assert!(shown.contains(hash));
    // On paper it is one page, and a validator finds nothing to say.
    let paper = place.text("report.pdf");
    browser(&place, &["--no-pdf-header-footer", &format!("--print-to-pdf={paper}"), &url]);
    let pdf = fs::read(&paper).unwrap();
    let pages = pdf.windows(11).filter(|bytes| *bytes == b"/Type /Page").count()
        - pdf.windows(12).filter(|bytes| *bytes == b"/Type /Pages").count();
    assert_eq!(pages, 1);
    let valid = Command::new("tidy").args(["-errors", "-quiet", &out]).output().expect("tidy is installed");
    assert!(valid.status.success(), "{}", String::from_utf8_lossy(&valid.stderr));
}
