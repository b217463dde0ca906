//! The client against the reference registry server of the OCI project, as Debian packages it.

use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU8, Ordering};

use pondrix_core::image::{Registries, Repository};
use pondrix_image::Compression;
use pondrix_image::registry::{PushRequest, Registry, RegistryError, pull, push};

use super::client::{attach_and_find, large, signed_in};
use super::{Place, built_with};

/// Where the package puts it.
const PROGRAM: &str = "docker-registry";
/// The name and the password `lily-pad-4711`, hashed as crypt(5) describes for `$2y$`.
const PASSWORDS: &str = "ines:$2y$05$abcdefghijklmnopqrstuuY2JiGci.f/wiltmp69h..6ZW.uBruZC\n";

/// A running server, ended when dropped.
struct Server(Child);

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Where the server listens: at an address that this process alone uses, one for each server. Its port is none of
/// those which the system gives away by itself (32768 and above).
fn own_address() -> std::net::SocketAddr {
    static NEXT: AtomicU8 = AtomicU8::new(1);
    let [.., high, low] = std::process::id().to_be_bytes();
    std::net::SocketAddr::from(([127, NEXT.fetch_add(1, Ordering::Relaxed), high, low], 5000))
}

/// Starts the server in a folder, and a place whose `pond.test` is this server.
async fn place(with_password: bool) -> (Server, Place) {
    let mut place = Place::new().await;
    let folder = place.folder.path().join("reference");
    std::fs::create_dir_all(folder.join("storage")).unwrap();
    let at = own_address();
    let server = start(&folder, at, with_password, None);
    let url = format!("http://{at}");
    let mut registries = Registries::at([("pond.test", url.clone())]);
    if with_password {
        registries = signed_in(&registries, "ines", "lily-pad-4711");
    }
    // The client itself waits: somebody who is not there yet is asked again.
    let client = Registry::new("pond.test", &registries).unwrap();
    let mut answer = client.answers().await;
    for _ in 0..20 {
        if answer.is_ok() {
            break;
        }
        answer = client.answers().await;
    }
    answer.unwrap();
    place.registries = registries;
    place.url = url;
    (server, place)
}

fn start(folder: &Path, at: std::net::SocketAddr, with_password: bool, certificate: Option<&Path>) -> Server {
    let mut settings = format!(
        "version: 0.1\nlog:\n  level: error\nstorage:\n  filesystem:\n    rootdirectory: {}\n  delete:\n    enabled: true\nhttp:\n  addr: {at}\n",
        folder.join("storage").display()
    );
    if let Some(certificate) = certificate {
        let key = certificate.with_extension("key");
        settings += &format!("  tls:\n    certificate: {}\n    key: {}\n", certificate.display(), key.display());
    }
    if with_password {
        std::fs::write(folder.join("passwords"), PASSWORDS).unwrap();
        settings += &format!("auth:\n  htpasswd:\n    realm: pond\n    path: {}\n", folder.join("passwords").display());
    }
    std::fs::write(folder.join("settings.yaml"), settings).unwrap();
    let mut command = Command::new(PROGRAM);
    command.arg("serve").arg(folder.join("settings.yaml")).stdout(Stdio::null()).stderr(Stdio::null());
    Server(command.spawn().expect("the package docker-registry is there: scripts/setup installs it"))
}

#[tokio::test(flavor = "multi_thread")]
async fn images_go_there_and_come_back_in_pieces_with_mounts_under_tags_with_and_without_a_password() {
    for with_password in [false, true] {
        let (_server, place) = place(with_password).await;
        let store = place.store("builder");
        let text = large().iter().map(|byte| char::from(*byte)).collect::<String>();
        let base = built_with(&place, &store, &[("f", &text)], "FROM scratch\nCOPY f /f", Compression::Gzip).await;
        let base_name: Repository = "pond.test/base/large".parse().unwrap();
        let (once, moving) = (["v1".parse().unwrap()], ["edge".parse().unwrap()]);
        let request =
            PushRequest { image: &base.image, repository: &base_name, tags: &once, moving: &moving, base: None };
        let pushed = push(&request, &place.registries, &store).await.unwrap();
        assert_eq!((pushed.sent, pushed.there), (2, 0));
        assert!(pushed.bytes > 33 << 20, "{}", pushed.bytes);
        let recipe = "FROM pond.test/base/large:v1\nCOPY g /g\nENV A=1";
        let app = built_with(&place, &store, &[("g", "2")], recipe, Compression::Zstd).await;
        let name: Repository = "pond.test/app".parse().unwrap();
        let request =
            PushRequest { image: &app.image, repository: &name, tags: &once, moving: &moving, base: Some(&base_name) };
        let pushed = push(&request, &place.registries, &store).await.unwrap();
        assert_eq!((pushed.sent, pushed.there), (2, 1), "the base's layer is mounted");
        let other = place.store("other");
        let pulled = pull(&"pond.test/app:v1".parse().unwrap(), &place.registries, &other).await.unwrap();
        assert_eq!(pulled.digest, app.image.digest);
        let folders = other.layers(&pulled).unwrap();
        assert_eq!(std::fs::metadata(folders[0].join("f")).unwrap().len(), text.len() as u64);
        assert_eq!(std::fs::read(folders[1].join("g")).unwrap(), b"2");
        let error = push(&PushRequest { image: &base.image, ..request }, &place.registries, &store).await.unwrap_err();
        assert!(matches!(error, RegistryError::TagTaken { .. }), "{error}");
        let client = Registry::new("pond.test", &place.registries).unwrap();
        let mut tags = client.tags(&name).await.unwrap();
        tags.sort();
        assert_eq!(tags, ["edge", "v1"]);
        client.may_pull(&name).await.unwrap();
        client.may_push(&name).await.unwrap();
        attach_and_find(&place, "pond.test").await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn who_has_no_password_or_a_wrong_one_is_told_so() {
    let (_server, place) = place(true).await;
    let name: Repository = "pond.test/app".parse().unwrap();
    let nobody = Registries::at([("pond.test", place.url.clone())]);
    let error = Registry::new("pond.test", &nobody).unwrap().may_push(&name).await.unwrap_err();
    assert!(matches!(error, RegistryError::SignIn { user: None, .. }), "{error}");
    let wrong = signed_in(&nobody, "ines", "something else");
    let error = Registry::new("pond.test", &wrong).unwrap().may_pull(&name).await.unwrap_err();
    assert!(matches!(error, RegistryError::SignIn { user: Some(_), .. }), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_registry_with_a_certificate_of_ones_own_is_believed_where_that_is_said() {
    let folder = tempfile::tempdir().unwrap();
    let at = own_address();
    std::fs::create_dir(folder.path().join("storage")).unwrap();
    // An authority of one's own, and what it says of this machine.
    let script = format!(
        "openssl req -x509 -newkey rsa:2048 -nodes -days 2 -subj /CN=Garden -keyout ca.key -out ca.pem && \
                  openssl req -newkey rsa:2048 -nodes -subj /CN=pond -keyout pond.key -out pond.csr && \
                  echo subjectAltName=IP:{} > names && \
                  openssl x509 -req -in pond.csr -CA ca.pem -CAkey ca.key -CAcreateserial -days 2 -extfile names -out pond.pem",
        at.ip()
    );
    let made = Command::new("sh").args(["-c", &script]).current_dir(folder.path()).stderr(Stdio::null()).status();
    assert!(made.unwrap().success());
    let certificate = folder.path().join("pond.pem");
    let _server = start(folder.path(), at, false, Some(&certificate));
    let mut registries = Registries::at([("pond.test", format!("https://{at}"))]);
    let access = registries.by_host.get_mut("pond.test").unwrap();
    access.certificates = Some(std::fs::read_to_string(folder.path().join("ca.pem")).unwrap());
    let believing = Registry::new("pond.test", &registries).unwrap();
    let name: Repository = "pond.test/app".parse().unwrap();
    let mut answer = believing.answers().await;
    for _ in 0..20 {
        if answer.is_ok() {
            break;
        }
        answer = believing.answers().await;
    }
    answer.unwrap();
    believing.may_push(&name).await.unwrap();
    registries.by_host.get_mut("pond.test").unwrap().certificates = None;
    let error = Registry::new("pond.test", &registries).unwrap().answers().await.unwrap_err();
    assert!(matches!(error, RegistryError::Silent { .. }), "{error}");
}
