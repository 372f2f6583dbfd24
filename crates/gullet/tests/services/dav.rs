//! WebDAV against Apache and nginx.

use std::fs;
use std::os::unix::fs::{PermissionsExt, chown};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use gullet_store::{StoreError, WebFolderPlace, web_folder};

use crate::conformance::{Lies, check};
use crate::far::{noise, place, restored, write};
use crate::proxy::Proxy;
use crate::servers::{free_port, printed, wait_until};

/// A server that is running, with a folder `root`.
struct Dav {
    folder: tempfile::TempDir,
    port: u16,
    server: Child,
}

impl Dav {
    fn start(command: &dyn Fn(&Path, u16) -> Command) -> Self {
        let folder = tempfile::Builder::new().prefix("g").tempdir_in("/tmp").unwrap();
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let account = nix::unistd::User::from_name("www-data").unwrap().expect("the account of web servers");
        for name in ["root", "run"] {
            let path = folder.path().join(name);
            fs::create_dir(&path).unwrap();
            chown(path, Some(account.uid.as_raw()), Some(account.gid.as_raw())).unwrap();
        }
        let port = free_port();
        let mut command = command(folder.path(), port);
        let server = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        wait_until("the web server", || std::net::TcpStream::connect(("127.0.0.1", port)).is_ok());
        Self { folder, port, server }
    }

    fn apache() -> Self {
        Self::apache_with("")
    }

    /// The same with more settings for its folder.
    fn apache_with(more: &str) -> Self {
        Self::start(&|folder, port| {
            let modules =
                ["mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic", "dav", "dav_fs"];
            let load = |name: &&str| format!("LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n");
            let modules: String = modules.iter().map(load).collect();
            let at = folder.display();
            let text = format!(
                "ServerRoot {at}\nServerName localhost\nListen 127.0.0.1:{port}\nPidFile run/pid\nErrorLog run/err\nUser www-data\n\
                 Group www-data\n{modules}DavLockDB {at}/run/lockdb\nDocumentRoot {at}/root\n<Directory {at}/root>\nDav On\n\
                 AuthType Basic\nAuthName depot\nAuthUserFile {at}/accounts\nRequire valid-user\n{more}</Directory>\n"
            );
            fs::write(folder.join("apache.conf"), text).unwrap();
            let password = printed(Command::new("openssl").args(["passwd", "-apr1", "low-tide-7"]));
            fs::write(folder.join("accounts"), format!("quay:{password}\n")).unwrap();
            let mut command = Command::new("/usr/sbin/apache2");
            command.args(["-DFOREGROUND", "-f"]).arg(folder.join("apache.conf"));
            command
        })
    }

    fn nginx() -> Self {
        Self::start(&|folder, port| {
            let at = folder.display();
            let text = format!(
                "daemon off; user www-data; pid {at}/run/pid; error_log {at}/run/err;\n\
                 load_module /usr/lib/nginx/modules/ngx_http_dav_ext_module.so;\nevents {{}}\n\
                 http {{ access_log off; client_max_body_size 0; client_body_temp_path {at}/run/body;\n\
                 server {{ listen 127.0.0.1:{port}; root {at}/root; dav_methods PUT DELETE MKCOL COPY MOVE;\n\
                 dav_ext_methods PROPFIND OPTIONS; create_full_put_path on; }} }}\n"
            );
            fs::write(folder.join("nginx.conf"), text).unwrap();
            let mut command = Command::new("/usr/sbin/nginx");
            command.arg("-c").arg(folder.join("nginx.conf"));
            command
        })
    }

    fn place(&self, sign_in: Option<(&str, &str)>) -> WebFolderPlace {
        WebFolderPlace {
            url: format!("http://127.0.0.1:{}/quay", self.port),
            sign_in: sign_in.map(|(user, password)| (user.to_owned(), password.to_owned())),
            authority: None,
            limit: Duration::from_secs(10),
        }
    }
}

impl Drop for Dav {
    fn drop(&mut self) {
        // Its processes end with it when it is asked to.
        let _ = Command::new("kill").arg(self.server.id().to_string()).status();
        let _ = self.server.wait();
    }
}

#[test]
fn web_folders_do_what_every_location_must_do() {
    let apache = Dav::apache();
    let lies = check(web_folder(&apache.place(Some(("quay", "low-tide-7")))).unwrap().as_ref());
    assert!(!lies.overwrites);
    let wrong = web_folder(&apache.place(Some(("quay", "another")))).unwrap();
    let error = wrong.read("store.json").unwrap_err();
    assert!(format!("{error:?}").contains("PermissionDenied"), "{error:?}");
    let nginx = Dav::nginx();
    assert_eq!(web_folder(&nginx.place(None)).unwrap().describe(), nginx.place(None).url);
    let lies = check(web_folder(&nginx.place(None)).unwrap().as_ref());
    // It is looked at beforehand; of writers at the same moment several win there.
    assert_eq!(lies, Lies { overwrites: false, ..lies });
    // What arrives with other bytes is told, and gone.
    let proxy = Proxy::before(nginx.port, Duration::from_secs(5), 1);
    let through = WebFolderPlace { url: format!("http://127.0.0.1:{}/quay", proxy.port), ..nginx.place(None) };
    let through = web_folder(&through).unwrap();
    proxy.flip_bodies(true);
    let error = through.write("damaged", b"as it was sent").unwrap_err();
    assert!(matches!(error, StoreError::Damaged { .. }), "{error:?}");
    proxy.flip_bodies(false);
    assert_eq!(through.length("damaged").unwrap(), None);
    through.write("damaged", b"as it was sent").unwrap();
    assert_eq!(through.read("damaged").unwrap(), b"as it was sent");
    // What a writer left that died is removed when it is known to be dead, and nothing else.
    let (place, url) = (web_folder(&nginx.place(None)).unwrap(), nginx.place(None).url);
    for name in ["payload+w+r1+000.zst.01", "payload+w+r2+000.zst.02"] {
        let url = format!("{url}/.incoming/{name}");
        printed(Command::new("curl").args(["-sSf", "-X", "PUT", "--data-binary", "half", &url]));
    }
    let is_there = |name: &str| {
        let url = format!("{url}/.incoming/{name}");
        Command::new("curl").args(["-sf", "-o", "/dev/null", &url]).status().unwrap().success()
    };
    place.discard_unpublished("payload/w/r1/", false).unwrap();
    assert!(is_there("payload+w+r1+000.zst.01"), "its writer may be at work");
    place.discard_unpublished("payload/w/r1/", true).unwrap();
    assert!(!is_there("payload+w+r1+000.zst.01") && is_there("payload+w+r2+000.zst.02"));
}

#[test]
fn a_copy_on_a_web_server_is_made_with_a_password_and_restored_from() {
    let (apache, place) = (Dav::apache(), place());
    let keys = place.file("keys", "WEBDAV_USER=quay\nWEBDAV_PASSWORD=low-tide-7\n");
    fs::set_permissions(keys, fs::Permissions::from_mode(0o600)).unwrap();
    let far = format!(
        "[store.far]\nlocation = \"http://127.0.0.1:{}/quay/depot\"\nlimit = \"5s\"\ncredentials = {{ file = \"@/keys\" }}\n",
        apache.port
    );
    place.define(&format!("copies = [\"far\"]\n{far}{}", crate::far::PART));
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "desk", "--quiet"]).exits(0);
    // The folder above is not there, and is nobody's business.
    place.gullet(&["store", "copy", "depot"]).exits(1).says("the folder above it is not there");
    fs::create_dir(apache.folder.path().join("root/quay")).unwrap();
    printed(Command::new("chown").arg("www-data:").arg(apache.folder.path().join("root/quay")));
    place.gullet(&["store", "copy", "depot"]).exits(0).says("1 run copied now");
    write(&place, 2);
    place.gullet(&["run", "desk"]).exits(0).says("copied to far: ");
    place.gullet(&["verify", "--store", "far"]).exits(0);
    assert_eq!(restored(&place, &["desk@latest", "--store", "far"]), noise(2));
    place.file("keys", "WEBDAV_USER=quay\nWEBDAV_PASSWORD=high-tide\n");
    place.gullet(&["run", "desk"]).exits(0).says("status 401");
}

#[test]
fn a_place_where_one_may_only_add_is_a_good_one() {
    let (apache, place) =
        (Dav::apache_with("<If \"%{REQUEST_METHOD} == 'DELETE'\">\nRequire all denied\n</If>\n"), place());
    let keys = place.file("keys", "WEBDAV_USER=quay\nWEBDAV_PASSWORD=low-tide-7\n");
    fs::set_permissions(keys, fs::Permissions::from_mode(0o600)).unwrap();
    let folder = place.path("").display().to_string();
    let text = format!(
        "state = \"@/state\"\n[store.far]\nlocation = \"http://127.0.0.1:{}/depot\"\nlimit = \"5s\"\n\
         credentials = {{ file = \"@/keys\" }}\n{}[app.desk.keep]\nnewest = 1\n",
        apache.port,
        crate::far::PART
    );
    place.file("gullet.toml", text.replace('@', folder.trim_end_matches('/')));
    place.gullet(&["store", "new", "far"]).exits(0);
    place.gullet(&["store", "test", "far"]).exits(6).says("nothing can be removed there with these rights");
    for seed in 1..4 {
        write(&place, seed);
        let run = place.gullet(&["run", "desk"]);
        assert!(matches!(run.code, 0 | 6), "{}{}", run.out, run.err);
    }
    // Earlier runs were given up by the rules; what they stored is still there, and that is said.
    assert_eq!(place.runs().iter().filter(|run| run["thinned"] == true).count(), 2);
    let swept = place.gullet(&["store", "sweep", "far", "--yes", "--delay", "0s"]);
    assert!(format!("{}{}", swept.out, swept.err).contains("status 403"), "{}{}", swept.out, swept.err);
    assert_eq!(place.json(&["store", "info", "far"])["payload_files"], 3);
    assert_eq!(restored(&place, &["desk@latest"]), noise(3));
    place.gullet(&["verify"]).exits(0);
}
