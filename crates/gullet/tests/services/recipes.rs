//! Every recipe against the real service: load while it is captured, a restore into a new instance, the same figures there.
//! What a recipe says about places is replaced by those of the test; everything else is as it is shipped.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};

use crate::harness::{Desk, Place, audit};
use crate::servers::{Load, Mariadb, Postgres, printed, wait_until};

/// A definition made from a recipe, with places replaced.
pub fn defined(place: &Place, app: &str, recipe: &str, places: &[(&str, &str)]) {
    let text = place.gullet(&["new", app, "--recipe", recipe, "--out", "-"]).exits(0).out;
    let mut text = text.replace("/var/lib/gullet", &place.text("state")).replace("/srv/depot", &place.text("depot"));
    for (from, to) in places {
        assert!(text.contains(from), "the recipe {recipe} does not say {from}");
        text = text.replace(from, to);
    }
    place.file("gullet.toml", text);
    place.gullet(&["store", "new", "depot"]).exits(0);
}

pub fn restored(place: &Place, app: &str) -> PathBuf {
    let into = place.path("out");
    place.gullet(&["restore", &format!("{app}@latest"), "--into", into.to_str().unwrap()]).exits(0);
    into
}

#[test]
fn new_writes_a_definition_that_is_sound_and_overwrites_nothing() {
    let place = Place::new();
    let listed = place.json(&["new", "--recipes"]);
    let names: Vec<&str> = listed.as_array().unwrap().iter().map(|recipe| recipe["name"].as_str().unwrap()).collect();
    assert!(names.len() >= 12, "{names:?}");
    for name in &names {
        let app = format!("app-{name}");
        place.gullet(&["new", &app, "--recipe", name]).exits(0).says("preflight");
        let file = format!("{app}.toml");
        let text = fs::read_to_string(place.path(&file)).unwrap();
        assert!(text.lines().all(|line| !line.contains("@APP@")), "{name}");
        // It can be read; what is refused is the store that is not there, never the definition.
        let call = place.gullet(&["--definition", &file, "plan", &app]);
        assert!(call.code != 3 || !call.err.contains("is not a key"), "{name}: {}", call.err);
        let status = place.gullet(&["--definition", &file, "status"]);
        assert!(!status.err.contains(&file), "{name}: {}", status.err);
    }
    place.gullet(&["new", "app-redis", "--recipe", "redis"]).exits(1).says("is not overwritten");
    place.gullet(&["new", "x", "--recipe", "nothing"]).exits(2).says("there is no recipe");
    place.gullet(&["new", "Über"]).exits(2).says("cannot be the name");
}

#[test]
fn postgres() {
    let server = Postgres::start("");
    server.bench();
    let place = Place::new();
    let settings = place.file("etc/postgresql.conf", "x = 1\n");
    let (host, etc) = (server.folder.display().to_string(), settings.parent().unwrap().display().to_string());
    defined(&place, "ledger", "postgres", &[("/run/postgresql", &host), ("/etc/postgresql", &etc)]);
    place.gullet(&["preflight", "ledger"]).exits(6).says("PostgreSQL 15");
    server.at_work(|| {
        place.gullet(&["run", "ledger"]).exits(0);
    });
    let export = restored(&place, "ledger").join("exports/databases");
    let fresh = Postgres::start("");
    for file in ["globals.sql", "postgres.sql"] {
        printed(fresh.program("psql").args(["-X", "-q", "-d", "postgres", "-f"]).arg(export.join(file)));
    }
    let rows = &place.capture("databases")["facts"]["rows.postgres.public.pgbench_history"];
    assert_eq!(fresh.sql("postgres", "select count(*) from pgbench_history"), rows.to_string());
    let sums = fresh.sums();
    assert!(sums.iter().all(|sum| *sum == sums[0]), "{sums:?}");
}

#[test]
fn postgres_cluster() {
    let server = Postgres::start("");
    server.bench();
    let place = Place::new();
    let settings = place.file("etc/postgresql.conf", "x = 1\n");
    let (host, etc) = (server.folder.display().to_string(), settings.parent().unwrap().display().to_string());
    let data = server.data.display().to_string();
    let places =
        [("/run/postgresql", host.as_str()), ("/etc/postgresql", &etc), ("/var/lib/postgresql/15/main", &data)];
    defined(&place, "ledger", "postgres-cluster", &places);
    server.at_work(|| {
        place.gullet(&["run", "ledger"]).exits(0);
    });
    let again = restored(&place, "ledger").join("files").join(data.strip_prefix('/').unwrap());
    let sums = Postgres::on(&again).unwrap().sums();
    assert!(sums.iter().all(|sum| *sum == sums[0]), "{sums:?}");
}

#[test]
fn mariadb() {
    let server = Mariadb::start("log-bin=bin\nserver-id=1\n");
    server.bank();
    let place = Place::new();
    let settings = place.file("etc/my.cnf", "[x]\n");
    let (socket, etc) = (server.socket(), settings.parent().unwrap().display().to_string());
    let places = [
        // Switched on.
        ("# [[app.ledger.hooks.succeeded]]", "[[app.ledger.hooks.succeeded]]"),
        ("# run = [", "run = ["),
        ("# needs = [", "needs = ["),
        ("/run/mysqld/mysqld.sock", &socket),
        ("/etc/mysql", &etc),
    ];
    defined(&place, "ledger", "mariadb", &places);
    server.sql("flush binary logs");
    server.at_work(|| {
        place.gullet(&["run", "ledger"]).exits(0);
    });
    // The logs before the recorded point are purged, and nothing after it.
    let file = place.capture("databases")["facts"]["binlog_file"].as_str().unwrap().to_owned();
    assert_eq!(server.sql("show binary logs").split(['\t', '\n']).next().unwrap(), file);
    let export = restored(&place, "ledger").join("exports/databases");
    let fresh = Mariadb::start("");
    for file in ["accounts.sql", "databases.sql"] {
        let text = fs::File::open(export.join(file)).unwrap();
        assert!(fresh.program("mariadb").stdin(text).status().unwrap().success());
    }
    assert_eq!(fresh.sums(), ["2000000", "0", "0"]);
}

#[test]
fn mariadb_files() {
    let place = Place::new();
    fs::set_permissions(place.path(""), fs::Permissions::from_mode(0o755)).unwrap();
    let _disk = crate::harness::Disk::at(&place.path("disk"), "btrfs");
    crate::servers::give_to_nobody(&place.path("disk"));
    let data = place.text("disk/data");
    let server = Mariadb::start_in(&place.path("disk/data"), "log-bin=bin\nserver-id=1\n");
    server.bank();
    defined(
        &place,
        "ledger",
        "mariadb-files",
        &[("/run/mysqld/mysqld.sock", &server.socket()), ("/var/lib/mysql", &data)],
    );
    // A server on which nothing happens is not taken for one that is held.
    place.gullet(&["run", "ledger"]).exits(0);
    server.at_work(|| {
        place.gullet(&["run", "ledger"]).exits(0);
    });
    assert!(place.capture("data")["facts"]["binlog"].as_str().unwrap().starts_with("bin."));
    let again = crate::servers::folder();
    let from = restored(&place, "ledger").join("files").join(data.strip_prefix('/').unwrap());
    printed(Command::new("cp").arg("-a").arg(from).arg(again.path().join("data")));
    drop(server);
    assert_eq!(Mariadb::on(&again.path().join("data")).unwrap().sums(), ["2000000", "0", "0"]);
}

#[test]
fn sqlite_and_files() {
    let desk = Desk::open();
    let place = &desk.place;
    let command =
        |word: &str| format!("[\"{}\", \"--desk\", \"{}\", \"{word}\"]", place.text("quaybook"), place.text("desk"));
    let (pause, state, resume) = (command("pause"), command("state"), command("resume"));
    let desk_folder = place.text("desk");
    for recipe in ["sqlite", "files"] {
        let _ = fs::remove_dir_all(place.path("depot"));
        let _ = fs::remove_dir_all(place.path("state"));
        let _ = fs::remove_dir_all(place.path("out"));
        place.file("etc/settings", "x");
        let etc = place.text("etc");
        let mut places = vec![
            ("[\"quaybook\", \"pause\"]", pause.as_str()),
            ("[\"quaybook\", \"state\"]", &state),
            ("[\"quaybook\", \"resume\"]", &resume),
            ("/var/lib/quaybook", &desk_folder),
        ];
        if recipe == "files" {
            places.push(("/etc/quaybook", &etc));
        }
        defined(place, "quaybook", recipe, &places);
        place.gullet(&["run", "quaybook"]).exits(0);
        assert_eq!(desk.state(), "serving");
        let out = restored(place, "quaybook");
        audit(&out.join("files").join(desk_folder.strip_prefix('/').unwrap())).exits(0);
    }
}

/// A Redis server in a folder.
pub struct Redis {
    server: Child,
    socket: String,
    folder: PathBuf,
}

impl Redis {
    pub fn start(folder: PathBuf) -> Self {
        fs::create_dir_all(&folder).unwrap();
        let socket = folder.join("s").display().to_string();
        let mut serve = Command::new("redis-server");
        serve.args(["--port", "0", "--unixsocket", &socket, "--save", "", "--appendonly", "no", "--dir"]).arg(&folder);
        let server = serve.stdin(Stdio::null()).stdout(Stdio::null()).spawn().unwrap();
        let redis = Self { server, socket, folder };
        wait_until("redis", || redis.command(&["ping"]).output().unwrap().stdout == b"PONG\n");
        redis
    }

    fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new("redis-cli");
        command.args(["-s", &self.socket]).args(words);
        command
    }

    pub fn ask(&self, words: &[&str]) -> String {
        printed(&mut self.command(words))
    }
}

impl Drop for Redis {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}

#[test]
fn redis() {
    let place = Place::new();
    let small = crate::harness::Mounted::at(&place.path("redis"), "8m");
    let redis = Redis::start(place.path("redis"));
    redis.ask(&["eval", "for i = 1, 5000 do redis.call('set', 'sailing:' .. i, i) end", "0"]);
    redis.ask(&["expire", "sailing:1", "100000"]);
    redis.ask(&["xadd", "log", "*", "what", "cast off"]);
    defined(&place, "cache", "redis", &[("/run/redis/redis-server.sock", &redis.socket)]);
    {
        let script = format!(
            "i=0; while :; do i=$((i+1)); redis-cli -s {} set later:$i $i >/dev/null || exit; done",
            redis.socket
        );
        let _load = Load::of(Command::new("/bin/sh").args(["-c", &script]));
        place.gullet(&["run", "cache"]).exits(0);
    }
    let keys = place.capture("data")["facts"]["keys"].as_u64().unwrap();
    assert!(keys >= 5001, "{keys}");
    let dump = restored(&place, "cache").join("exports/data/dump.rdb");
    let fresh = place.path("fresh");
    fs::create_dir_all(&fresh).unwrap();
    fs::copy(dump, fresh.join("dump.rdb")).unwrap();
    let again = Redis::start(fresh);
    assert_eq!(again.ask(&["dbsize"]), keys.to_string());
    assert_eq!((again.ask(&["get", "sailing:77"]).as_str(), again.ask(&["xlen", "log"]).as_str()), ("77", "1"));
    assert!(again.ask(&["ttl", "sailing:1"]).parse::<i64>().unwrap() > 90_000);
    // A save that fails answers as if it had started; it is asked whether it did.
    let fill = Command::new("dd")
        .args(["if=/dev/zero", "bs=1M", "count=20"])
        .arg(format!("of={}", place.text("redis/full")))
        .output();
    assert!(!fill.unwrap().status.success(), "the disk is full");
    fs::remove_file(redis.folder.join("dump.rdb")).unwrap();
    fs::write(redis.folder.join("more"), vec![1; 9 << 20]).unwrap_err();
    place.gullet(&["run", "cache"]).exits(1).says("the save failed");
    assert!(place.capture("data")["listing"].is_null());
    drop((redis, small));
}

/// An OpenLDAP server in a folder.
pub struct Ldap {
    server: Child,
    pub url: String,
    configuration: PathBuf,
}

impl Ldap {
    fn start(folder: &std::path::Path) -> Self {
        let url = format!("ldapi://{}", folder.join("s").display().to_string().replace('/', "%2F"));
        let configuration = folder.join("cfg");
        let mut serve = Command::new("/usr/sbin/slapd");
        serve.arg("-F").arg(&configuration).args(["-h", &url, "-d", "0"]);
        let server = serve.stdin(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let ldap = Self { server, url, configuration };
        wait_until("slapd", || ldap.program("ldapwhoami", &[]).output().unwrap().status.success());
        ldap
    }

    fn program(&self, name: &str, words: &[&str]) -> Command {
        let mut command = Command::new(name);
        command.args(["-Q", "-Y", "EXTERNAL", "-H", &self.url]).args(words);
        command
    }

    fn entries(&self) -> usize {
        let found = printed(
            &mut self.program("ldapsearch", &["-LLL", "-b", "dc=skerry,dc=test", "-E", "pr=1000/noprompt", "dn"]),
        );
        found.lines().filter(|line| line.starts_with("dn:")).count()
    }
}

impl Drop for Ldap {
    fn drop(&mut self) {
        let _ = Command::new("kill").args(["-INT", &self.server.id().to_string()]).status();
        let _ = self.server.wait();
    }
}

/// A directory with 800 entries, in a folder.
pub fn directory(folder: &std::path::Path) -> Ldap {
    for below in ["db", "cfg"] {
        fs::create_dir_all(folder.join(below)).unwrap();
    }
    let root = "gidNumber=0+uidNumber=0,cn=peercred,cn=external,cn=auth";
    let text = format!(
        "include /etc/ldap/schema/core.schema\ninclude /etc/ldap/schema/cosine.schema\n\
         include /etc/ldap/schema/inetorgperson.schema\nmodulepath /usr/lib/ldap\nmoduleload back_mdb\n\
         database config\nrootdn \"{root}\"\n\
         database mdb\nsuffix \"dc=skerry,dc=test\"\nrootdn \"{root}\"\ndirectory {}\n",
        folder.join("db").display()
    );
    fs::write(folder.join("slapd.conf"), text).unwrap();
    // It complains that there is no database yet, and writes the configuration.
    let mut make = Command::new("/usr/sbin/slaptest");
    let _ = make.arg("-f").arg(folder.join("slapd.conf")).arg("-F").arg(folder.join("cfg")).output().unwrap();
    let mut ldif =
        "dn: dc=skerry,dc=test\nobjectClass: dcObject\nobjectClass: organization\no: Skerry Line\ndc: skerry\n"
            .to_owned();
    for number in 0..800 {
        ldif += &format!(
            "\ndn: cn=clerk {number},dc=skerry,dc=test\nobjectClass: inetOrgPerson\ncn: clerk {number}\nsn: Ebbe\ndescription: {}\n",
            "writes long lines that fold ".repeat(5)
        );
    }
    fs::write(folder.join("data.ldif"), ldif).unwrap();
    printed(
        Command::new("/usr/sbin/slapadd")
            .args(["-q", "-n", "1", "-F"])
            .arg(folder.join("cfg"))
            .arg("-l")
            .arg(folder.join("data.ldif")),
    );
    Ldap::start(folder)
}

#[test]
fn openldap() {
    let place = Place::new();
    let folder = place.path("ldap");
    let ldap = directory(&folder);
    let configuration = ldap.configuration.display().to_string();
    let places = [("ldapi:///", ldap.url.as_str()), ("/etc/ldap/slapd.d", &configuration)];
    defined(&place, "directory", "openldap", &places);
    {
        let script = format!(
            "i=0; while :; do i=$((i+1)); printf 'dn: cn=new %s,dc=skerry,dc=test\\nobjectClass: inetOrgPerson\\ncn: new %s\\nsn: x\\n' \
             $i $i | ldapadd -Q -Y EXTERNAL -H {} >/dev/null 2>&1; done",
            ldap.url
        );
        let _load = Load::of(Command::new("/bin/sh").args(["-c", &script]));
        wait_until("the load", || ldap.entries() > 810);
        place.gullet(&["run", "directory"]).exits(0);
        // It takes entries again.
        let now = ldap.entries();
        wait_until("the load after it", || ldap.entries() > now);
    }
    let entries = place.capture("data")["facts"]["entries"].as_u64().unwrap();
    let out = restored(&place, "directory").join("exports");
    let exported = fs::read_to_string(out.join("configuration/configuration.ldif")).unwrap();
    assert!(!exported.contains("olcReadOnly: TRUE"), "a restored server must not start read-only");
    let fresh = place.path("fresh");
    for below in ["db", "cfg"] {
        fs::create_dir_all(fresh.join(below)).unwrap();
    }
    fs::write(fresh.join("c.ldif"), exported.replace(&folder.display().to_string(), &fresh.display().to_string()))
        .unwrap();
    let slapadd = |number: &str, file: PathBuf| {
        printed(
            Command::new("/usr/sbin/slapadd")
                .args(["-q", "-n", number, "-F"])
                .arg(fresh.join("cfg"))
                .arg("-l")
                .arg(file),
        );
    };
    slapadd("0", fresh.join("c.ldif"));
    slapadd("1", out.join("data/data.ldif"));
    let again = Ldap::start(&fresh);
    assert_eq!(again.entries() as u64, entries);
    let add = "dn: cn=after,dc=skerry,dc=test\nobjectClass: inetOrgPerson\ncn: after\nsn: x\n";
    fs::write(fresh.join("add.ldif"), add).unwrap();
    printed(&mut again.program("ldapadd", &["-f", fresh.join("add.ldif").to_str().unwrap()]));
}
