//! Connections: TLS of the server's own, and whoever keeps others from being answered.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Command, Stdio};

use pondrix_api::Client;
use reqwest::{Method, StatusCode};
use serde_json::json;

use crate::someone::Someone;
use crate::support::{PATIENCE, PONDRIX, Said, Server, World, one_job, said, until};

/// Makes an authority and a certificate of it for an address: `NAME.pem` and `NAME.key`, and `NAME.ca.pem`.
fn certificate(folder: &Path, name: &str, address: &str) {
    let script = format!(
        "openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -days 2 -subj /CN=Garden-{name} \
                 -keyout ca.key -out {name}.ca.pem && \
         openssl req -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj /CN=pond -keyout {name}.key -out pond.csr && \
         echo subjectAltName=IP:{address} > names && \
         openssl x509 -req -in pond.csr -CA {name}.ca.pem -CAkey ca.key -CAcreateserial -days 2 -extfile names -out {name}.pem"
    );
    let made = Command::new("sh").args(["-c", &script]).current_dir(folder).stderr(Stdio::null()).status();
    assert!(made.unwrap().success());
}

/// The command line, which believes an authority.
async fn pondrix(url: &str, token: &str, authority: &Path, arguments: &[&str]) -> Said {
    let mut command = Command::new(PONDRIX);
    command.args(arguments).env("PONDRIX_URL", url).env("PONDRIX_TOKEN", token).env("SSL_CERT_FILE", authority);
    // Its certificates would be accepted too.
    command.env_remove("SSL_CERT_DIR");
    said(command).await
}

/// A file of authorities, for a machine that has none.
const NO_AUTHORITIES: &str = "/dev/null";

#[tokio::test(flavor = "multi_thread")]
async fn a_machine_without_certificates_of_authorities_reaches_a_server_without_tls() {
    let world = World::new().await;
    let said = pondrix(world.url(), &world.token, Path::new(NO_AUTHORITIES), &["whoami"]).await;
    assert_eq!(said.status, 0, "{}", said.err);
    let nobody = pondrix("http://127.0.0.1:1", &world.token, Path::new(NO_AUTHORITIES), &["whoami"]).await;
    assert!(nobody.err.contains("refused") && !nobody.err.contains("panicked"), "{}", nobody.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_server_speaks_tls_with_the_newest_certificate_and_its_own_runner_works() {
    let mut world = World::new().await;
    let (repository, _) = world.project("desk", &[]).await;
    repository.write("pondrix.kdl", &one_job("step \"echo over TLS\"")).unwrap();
    let run = world.run_of("desk", &repository.push("First").unwrap()).await;
    world.passes(&run).await;
    let folder = world.folder.path().to_owned();
    let listen = world.url().trim_start_matches("http://").to_owned();
    let address = listen.split(':').next().unwrap();
    for name in ["one", "other"] {
        certificate(&folder, name, address);
    }
    let (used, key) = (folder.join("used.pem"), folder.join("used.key"));
    let take = |name: &str| {
        std::fs::copy(folder.join(format!("{name}.key")), &key).unwrap();
        std::fs::copy(folder.join(format!("{name}.pem")), &used).unwrap();
    };
    take("one");
    world.server.take().unwrap().end();
    let tls = ["--tls-certificate", used.to_str().unwrap(), "--tls-key", key.to_str().unwrap()];
    world.server = Some(Server::start_allowing(&folder.join("server"), &listen, &tls));
    let url = format!("https://{listen}");
    let token = world.token.clone();
    let (one, other) = (folder.join("one.ca.pem"), folder.join("other.ca.pem"));
    let started = pondrix(&url, &token, &one, &["start", "desk", "--follow"]).await;
    assert!(started.status == 0 && started.out.contains("over TLS"), "{}{}", started.out, started.err);
    let stranger = pondrix(&url, &token, &other, &["whoami"]).await;
    assert!(stranger.status != 0 && stranger.err.to_lowercase().contains("certificate"), "{}", stranger.err);
    let without = pondrix(&url, &token, Path::new(NO_AUTHORITIES), &["whoami"]).await;
    assert!(without.status != 0 && without.err.contains("install the package `ca-certificates`"), "{}", without.err);
    // What a browser is told: ask over TLS again, and show the cookie nowhere else.
    let authority = reqwest::Certificate::from_pem(&std::fs::read(&one).unwrap()).unwrap();
    let http = reqwest::Client::builder().tls_certs_merge([authority]).build().unwrap();
    let signed = http.post(format!("{url}/api/v1/session")).json(&json!({ "token": token })).send().await.unwrap();
    assert_eq!(signed.status(), StatusCode::OK);
    let header = |name: &str| signed.headers()[name].to_str().unwrap().to_owned();
    assert!(header("set-cookie").contains("; Secure"), "{}", header("set-cookie"));
    assert_eq!(header("strict-transport-security"), "max-age=31536000");
    // What is no certificate changes nothing, and another one is taken without a new start.
    std::fs::write(&used, "no certificate").unwrap();
    let log = folder.join("server.log");
    until("the server to say so", async || {
        std::fs::read_to_string(&log).unwrap().contains("the certificate before is still used").then_some(())
    })
    .await;
    assert_eq!(pondrix(&url, &token, &one, &["whoami"]).await.status, 0);
    take("other");
    until("the other certificate", async || {
        (pondrix(&url, &token, &other, &["whoami"]).await.status == 0).then_some(())
    })
    .await;
    // Without a certificate that fits its key nothing is served, nor with a key that everybody can read.
    let refused = || {
        let mut serve = Command::new(PONDRIX);
        serve.args(["serve", "--runners", "0", "--listen", "127.0.0.1:0", "--data"]).arg(folder.join("another"));
        let ended = serve.args(tls).output().unwrap();
        assert!(!ended.status.success());
        String::from_utf8_lossy(&ended.stderr).into_owned()
    };
    std::fs::copy(folder.join("one.pem"), &used).unwrap();
    assert!(refused().contains("used.pem"));
    take("one");
    std::fs::set_permissions(&key, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    assert!(refused().contains("everybody can read"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_connection_that_says_half_of_something_is_ended_and_keeps_nobody_waiting() {
    let world = World::new().await;
    let listen = world.url().trim_start_matches("http://").to_owned();
    let half = |text: &'static str| {
        let mut stream = TcpStream::connect(&listen).unwrap();
        stream.write_all(text.as_bytes()).unwrap();
        tokio::task::spawn_blocking(move || {
            let mut said = Vec::new();
            // It is ended by the server: nothing more is sent here.
            drop(stream.read_to_end(&mut said));
            String::from_utf8_lossy(&said).into_owned()
        })
    };
    let headers = half("GET /health HTTP/1.1\r\nHost: pond\r\nX-Slow: ");
    let silent = half("");
    let body = half(
        "POST /api/v1/session HTTP/1.1\r\nHost: pond\r\nContent-Type: application/json\r\nContent-Length: 20\r\n\r\n{",
    );
    assert_eq!(world.pondrix(&["whoami"]).await.status, 0, "others are answered meanwhile");
    let (headers, silent, body) = (headers.await.unwrap(), silent.await.unwrap(), body.await.unwrap());
    assert!(headers.is_empty() || headers.starts_with("HTTP/1.1 408"), "{headers}");
    assert_eq!(silent, "");
    assert!(body.starts_with("HTTP/1.1 4"), "{body}");
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_asks_too_often_waits_and_others_do_not() {
    let mut world = World::new().await;
    let listen = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    let data = world.folder.path().join("server");
    world.server = Some(Server::start_allowing(&data, &listen, &["--request-limit", "4"]));
    let wren = Someone::new(&world, "wren", &[]).await;
    let ask = async |someone: &Someone<'_>| someone.ask(&Method::GET, "/api/v1/whoami", json!({})).await;
    let mut refused = None;
    for _ in 0..400 {
        let answer = ask(&wren).await;
        if answer.status() == StatusCode::TOO_MANY_REQUESTS {
            refused = Some(answer);
            break;
        }
        assert_eq!(answer.status(), StatusCode::OK);
    }
    let refused = refused.expect("400 requests, one after the other, and none too many");
    assert_eq!(refused.headers()["retry-after"], "1");
    let words = refused.text().await.unwrap();
    assert!(words.contains("this token asks more than 4 times a second (serve --request-limit)"), "{words}");
    assert_eq!(world.pondrix(&["whoami"]).await.status, 0, "somebody else");
    // Whoever shows nothing that is known is counted by their address.
    let nobody = Someone::with(&world, "nobody", "pdx_wrong");
    let mut last = StatusCode::UNAUTHORIZED;
    for _ in 0..400 {
        last = ask(&nobody).await.status();
        if last != StatusCode::UNAUTHORIZED {
            break;
        }
    }
    assert_eq!(last, StatusCode::TOO_MANY_REQUESTS);
    assert_eq!(world.pondrix(&["whoami"]).await.status, 0, "whoever has a token, from the same address");
}

#[tokio::test(flavor = "multi_thread")]
async fn one_token_has_so_many_streams_open_and_no_more() {
    let world = World::new().await;
    let wren = Someone::new(&world, "wren", &[]).await;
    let client = Client::new(world.url(), &wren.token);
    let mut streams = Vec::new();
    for _ in 0..100 {
        streams.push(client.follow_runs("").await.unwrap());
    }
    let refused = client.follow_runs("").await.err().unwrap().to_string();
    assert!(refused.contains("this token has 100 streams open, which is the most"), "{refused}");
    assert!(world.client.follow_runs("").await.is_ok(), "somebody else");
    drop(streams);
    until("room for another", async || client.follow_runs("").await.is_ok().then_some(())).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_request_whose_end_two_readers_could_see_at_different_places_ends_its_connection() {
    let world = World::new().await;
    let address = world.url().trim_start_matches("http://").to_owned();
    // What comes behind is another request for whoever reads the first one as shorter.
    let behind = "GET /health HTTP/1.1\r\nHost: pond\r\n\r\n";
    let answers = |head: &str, body: &str| {
        let mut stream = TcpStream::connect(&address).unwrap();
        stream.set_read_timeout(Some(PATIENCE)).unwrap();
        let request = format!(
            "POST /api/v1/session HTTP/1.1\r\nHost: pond\r\nContent-Type: application/json\r\n{head}\r\n\r\n{body}{behind}"
        );
        stream.write_all(request.as_bytes()).unwrap();
        let mut text = Vec::new();
        // The server ends it, by its own will or with what it had not read.
        let _ = stream.read_to_end(&mut text);
        String::from_utf8_lossy(&text).matches("HTTP/1.1 ").count()
    };
    let (chunked, chunks) = ("Transfer-Encoding: chunked", "2\r\n{}\r\n0\r\n\r\n");
    for (head, body) in [
        (format!("Content-Length: 6\r\n{chunked}"), chunks),
        (format!("{chunked}\r\nContent-Length: 6"), chunks),
        ("Content-Length: 2\r\nContent-Length: 3".to_owned(), "{}"),
        ("Content-Length: 2, 2".to_owned(), "{}"),
        ("Content-Length: +2".to_owned(), "{}"),
        ("Transfer-Encoding: xchunked".to_owned(), chunks),
        ("Transfer-Encoding : chunked".to_owned(), chunks),
        ("Transfer-Encoding: chunked, identity".to_owned(), chunks),
        (chunked.to_owned(), "2;a\nX\r\n{}\r\n0\r\n\r\n"),
        (chunked.to_owned(), "2\n{}\n0\n\n"),
        (chunked.to_owned(), "0x2\r\n{}\r\n0\r\n\r\n"),
    ] {
        assert_eq!(answers(&head, body), 1, "{head} {body}");
    }
    // One that is plain leaves it open, and the other one is answered, too.
    let mut stream = TcpStream::connect(&address).unwrap();
    let first =
        format!("GET /health HTTP/1.1\r\nHost: pond\r\n\r\n{}", behind.replace("Host", "Connection: close\r\nHost"));
    stream.write_all(first.as_bytes()).unwrap();
    let mut text = String::new();
    stream.read_to_string(&mut text).unwrap();
    assert_eq!(text.matches("HTTP/1.1 200").count(), 2, "{text}");
}
