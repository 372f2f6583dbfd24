//! A real distributed object storage: Ceph with its S3 gateway. Its packages are many, so `scripts/prove.sh` runs these.

use std::fs;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::Duration;

use gullet_store::{BucketPlace, bucket};
use jiff::Timestamp;

use crate::conformance::check;
use crate::far::{PART, bucket_at, go_through_trouble, noise, place, restored};
use crate::harness::Place;
use crate::servers::{free_port, printed};

struct Ceph {
    folder: tempfile::TempDir,
    port: u16,
}

fn script() -> Command {
    Command::new(PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/services/ceph.sh"))
}

impl Ceph {
    fn start() -> Self {
        let ceph = Self { folder: tempfile::tempdir().unwrap(), port: free_port() };
        let [monitor, port] = [free_port(), ceph.port].map(|port| port.to_string());
        let started = script().arg(ceph.folder.path()).args([&monitor, &port]).stdout(Stdio::null()).status();
        assert!(started.unwrap().success(), "Ceph starts");
        ceph
    }

    fn url(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }

    /// Calls what others make requests with: an expression of `s3`; gives what it prints.
    fn python(&self, call: &str) -> String {
        let head = format!(
            "import boto3, botocore\ns3 = boto3.client('s3', endpoint_url='{}', aws_access_key_id='AK', \
             aws_secret_access_key='SK', region_name='us-east-1')\n",
            self.url()
        );
        printed(Command::new("python3").arg("-c").arg(head + call))
    }

    fn make(&self, bucket: &str, locks: bool) {
        let locks = if locks { "True" } else { "False" };
        self.python(&format!("s3.create_bucket(Bucket='{bucket}', ObjectLockEnabledForBucket={locks})"));
    }

    fn signal(&self, name: &str, signal: &str) {
        let pid = fs::read_to_string(self.folder.path().join(format!("run/{name}.pid"))).unwrap_or_default();
        let _ = Command::new("kill").args([&format!("-{signal}"), pid.trim()]).stderr(Stdio::null()).status();
    }

    fn define(&self, place: &Place, bucket: &str, more: &str) {
        place.define(&format!(
            "copies = [\"far\"]\n[store.far]\nlocation = \"s3://{bucket}/quay\"\nendpoint = \"{}\"\nlimit = \"10s\"\n\
             credentials = {{ file = \"@/keys\" }}\n{more}{PART}",
            self.url()
        ));
        place.gullet(&["store", "new", "depot"]).exits(0);
    }
}

impl Drop for Ceph {
    fn drop(&mut self) {
        ["gateway", "osd", "mon"].into_iter().for_each(|name| self.signal(name, "KILL"));
    }
}

#[test]
#[ignore = "it needs Ceph's packages: scripts/prove.sh"]
fn it_does_what_every_location_must_do() {
    let ceph = Ceph::start();
    ceph.make("depot", false);
    let far = bucket_at(ceph.url(), "depot", "quay/first");
    let lies = check(bucket(&far).unwrap().as_ref());
    assert!(!lies.overwrites && !lies.several_winners);
    let wrong = bucket(&BucketPlace { secret: "another".to_owned(), ..far.clone() }).unwrap();
    assert!(format!("{:?}", wrong.names("").unwrap_err()).contains("the secret key is not the right one"));
    let none = bucket(&BucketPlace { bucket: "none".to_owned(), ..far }).unwrap();
    assert!(format!("{:?}", none.names("").unwrap_err()).contains("the server has no such bucket"));
}

#[test]
#[ignore = "it needs Ceph's packages: scripts/prove.sh"]
fn a_gateway_that_dies_in_the_middle_of_a_copy_leaves_nothing_half() {
    let (ceph, place) = (Ceph::start(), place());
    ceph.make("depot", false);
    ceph.define(&place, "depot", "");
    let mut rng = fastrand::Rng::with_seed(11);
    let mut landed = 0;
    for round in 0..6_u64 {
        for number in 0..20 {
            let bytes: Vec<u8> = std::iter::repeat_with(|| rng.u8(..)).take(8 << 20).collect();
            place.file(&format!("docs/{number}"), bytes);
        }
        // The copy is made by hand, so that it can be met in the middle.
        ceph.signal("gateway", "STOP");
        place.gullet(&["run", "desk", "--quiet"]).exits(0);
        ceph.signal("gateway", "CONT");
        let mut copy = place.command(&["store", "copy", "depot", "--make"]);
        let mut copy = copy.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(200 + 150 * round));
        landed += u32::from(copy.try_wait().unwrap().is_none());
        ceph.signal("gateway", "KILL");
        std::thread::sleep(Duration::from_millis(300 * (round % 3)));
        assert!(script().arg("gateway").arg(ceph.folder.path()).arg(ceph.port.to_string()).status().unwrap().success());
        let ended = copy.wait_with_output().unwrap();
        let told = String::from_utf8_lossy(&ended.stderr).into_owned();
        assert!(ended.status.success() || told.contains("far") || told.contains("s3://"), "it ends in words: {told}");
        // Whatever is there can be verified; what is not is not spoken of.
        let verified = place.gullet(&["verify", "--store", "far"]);
        assert!(verified.code == 0 || verified.err.contains("no store at"), "{}{}", verified.out, verified.err);
    }
    assert!(landed >= 3, "the gateway died in the middle of {landed} copies only");
    place.gullet(&["store", "copy", "depot", "--make"]).exits(0);
    place.gullet(&["verify", "--store", "far"]).exits(0).says("intact: 6 runs");
    fs::rename(place.path("depot"), place.path("ashes")).unwrap();
    assert_eq!(restored(&place, &["desk@latest", "--store", "far"]), noise(1));
}

/// 500 runs with a copy; `GULLET_CUTS` says another number.
#[test]
#[ignore = "it needs Ceph's packages: scripts/prove.sh"]
fn whatever_happens_to_connections_everything_goes_on() {
    let rounds = std::env::var("GULLET_CUTS").ok().and_then(|text| text.parse().ok()).unwrap_or(500);
    let ceph = Ceph::start();
    ceph.make("depot", false);
    go_through_trouble(ceph.port, Duration::from_millis(1500), rounds);
}

#[test]
#[ignore = "it needs Ceph's packages: scripts/prove.sh"]
fn what_is_locked_there_comes_back_after_a_thief() {
    let (ceph, place) = (Ceph::start(), place());
    ceph.make("safe", true);
    ceph.define(&place, "safe", "locked_for = \"1h\"\n");
    place.gullet(&["run", "desk", "--quiet"]).exits(0);
    place.gullet(&["store", "copy", "depot"]).exits(0).says("locked until ");
    std::thread::sleep(Duration::from_millis(2100));
    let good = Timestamp::now().to_string();
    std::thread::sleep(Duration::from_millis(2100));
    let open = bucket_at(ceph.url(), "safe", "quay");
    let far = bucket(&open).unwrap();
    let all = far.names("").unwrap();
    all.iter().for_each(|name| far.remove(name).unwrap());
    let refused = ceph.python(
        "for v in s3.list_object_versions(Bucket='safe')['Versions']:\n  try: s3.delete_object(Bucket='safe', Key=v['Key'], \
         VersionId=v['VersionId']); print('removed')\n  except botocore.exceptions.ClientError as e: print(e.response['Error']['Code'])",
    );
    assert!(refused.lines().count() >= all.len() && refused.lines().all(|line| line == "AccessDenied"), "{refused}");
    place.gullet(&["verify", "--store", "far"]).exits(4);
    place.gullet(&["store", "bring-back", "far", "--as-of", &good, "--yes"]).exits(0).says("brought back");
    assert_eq!(far.names("").unwrap(), all);
    place.gullet(&["verify", "--store", "far"]).exits(0).says("intact: 1 run");
}
