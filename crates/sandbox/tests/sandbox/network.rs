//! Networks that commands share.

use std::fs::File;
use std::io::{Read, Write};
use std::time::{Duration, Instant};

use pondrix_sandbox::{Exit, NAMES_AT, Rootfs, Running, SharedNetwork, Spec};

use crate::place::{Place, as_root_and_as_user};

/// Starts a command in a shared network, in a root of its own.
fn join(place: &Place, network: &SharedNetwork, root: &str, script: &str) -> (Running, std::io::PipeReader) {
    let layers = vec![place.path("layer")];
    let spec = Spec { root: Rootfs::new(layers, place.path(root)), ..place.spec(script) };
    let (reader, writer) = std::io::pipe().unwrap();
    (place.launcher.start_in(network, &spec, writer.into()).unwrap(), reader)
}

fn text_of(mut joined: (Running, std::io::PipeReader)) -> (Exit, String) {
    let mut text = String::new();
    joined.1.read_to_string(&mut text).unwrap();
    (joined.0.wait(), text)
}

#[test]
fn commands_that_share_a_network_reach_each_other_and_see_nothing_else_of_each_other() {
    as_root_and_as_user(
        "network::commands_that_share_a_network_reach_each_other_and_see_nothing_else_of_each_other",
        |place| {
            let network = place.launcher.share_network(Vec::new()).unwrap();
            let (mut server, _output) =
                join(place, &network, "server", "touch /mine; while :; do echo hello | nc -l -p 4712; done");
            let connector = network.connector();
            let since = Instant::now();
            while connector.connect(4712).is_err() {
                assert!(since.elapsed() < Duration::from_secs(20), "nobody listens");
            }
            // Nobody listens between one caller and the next: the call is made until it is answered.
            let script = "until said=$(nc 127.0.0.1 4712) && test \"$said\"; do :; done; echo $said; ls -d /mine; ls -d /proc/[0-9]*; id -u; mount -t tmpfs x /tmp || echo refused";
            let (exit, text) = text_of(join(place, &network, "client", script));
            assert_eq!(exit, Exit::Status(0), "{text}");
            assert!(text.starts_with("hello\n") && text.contains("ls: /mine"), "{text}");
            let processes: Vec<_> = text.lines().filter(|line| line.starts_with("/proc/")).collect();
            assert_eq!(processes, ["/proc/1", "/proc/3"], "its own and none of the server's: {text}");
            assert!(text.ends_with("refused\n"), "{text}");
            let (_, text) = place.sh("nc 127.0.0.1 4712 </dev/null; ip addr");
            assert!(!text.contains("hello"), "another network reaches it: {text}");
            server.kill();
        },
    );
}

#[test]
fn the_caller_answers_what_is_asked_inside_for_names() {
    as_root_and_as_user("network::the_caller_answers_what_is_asked_inside_for_names", |place| {
        let network = place.launcher.share_network(Vec::new()).unwrap();
        let (datagrams, streams) = network.listen_for_names().unwrap();
        std::thread::spawn(move || {
            let mut question = [0; 512];
            while let Ok((count, from)) = datagrams.recv_from(&mut question) {
                // The same, as an answer with one record: the name's address (RFC 1035, section 4.1).
                let mut answer = question[..count].to_vec();
                answer[2] |= 0x80;
                answer[7] = u8::from(answer[count - 3] == 1);
                if answer[7] == 1 {
                    answer.extend([0xc0, 12, 0, 1, 0, 1, 0, 0, 0, 60, 0, 4, 198, 51, 100, 7]);
                }
                let _ = datagrams.send_to(&answer, from);
            }
        });
        std::thread::spawn(move || {
            while let Ok((mut stream, _)) = streams.accept() {
                let _ = stream.write_all(b"over a stream\n");
            }
        });
        let script = format!(
            "nslookup pond.test {NAMES_AT}; nc -w 10 {NAMES_AT} 53 </dev/null; nc -w 10 127.0.0.1 53 </dev/null; true"
        );
        let (_, text) = text_of(join(place, &network, "client", &script));
        assert!(text.contains("198.51.100.7") && text.contains("over a stream\n"), "{text}");
        // It is taken now, and what comes after a refusal is answered as before.
        assert!(network.listen_for_names().is_err());
        assert_eq!(network.connector().connect(4712).unwrap_err().kind(), std::io::ErrorKind::ConnectionRefused);
    });
}

#[test]
fn a_way_out_reaches_the_machine_as_any_other_and_none_of_its_loopback() {
    as_root_and_as_user("network::a_way_out_reaches_the_machine_as_any_other_and_none_of_its_loopback", |place| {
        let mut network = place.launcher.share_network(Vec::new()).unwrap();
        // The address of this machine that others would reach it at: no packet is sent for this.
        let probe = std::net::UdpSocket::bind("0.0.0.0:0").unwrap();
        if probe.connect("192.0.2.200:9").is_err() {
            let words = network.open_way_out().unwrap_err().to_string();
            assert!(words.contains("`pasta` gives no way out"), "{words}");
            return;
        }
        if File::options().read(true).write(true).open("/dev/net/tun").is_err() {
            let words = network.open_way_out().unwrap_err().to_string();
            assert!(words.ends_with("must be allowed to open /dev/net/tun"), "{words}");
            return;
        }
        network.open_way_out().unwrap();
        let outside = std::net::TcpListener::bind((probe.local_addr().unwrap().ip(), 0)).unwrap();
        let loopback = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let at = outside.local_addr().unwrap();
        // It ends with the process: nobody waits for a caller that does not come.
        std::thread::spawn(move || {
            while let Ok((mut stream, _)) = outside.accept() {
                let _ = stream.read(&mut [0; 1024]);
                let _ = stream.write_all(b"HTTP/1.0 200 OK\r\n\r\nfrom outside\n");
            }
        });
        let (_, text) = text_of(join(place, &network, "client", &format!("wget -qO- http://{at}/")));
        assert_eq!(text, "from outside\n");
        loopback.set_nonblocking(true).unwrap();
        let port = loopback.local_addr().unwrap().port();
        let script = format!("for at in 127.0.0.1 198.18.0.1; do nc -w 10 $at {port} </dev/null; done; echo tried");
        let (_, text) = text_of(join(place, &network, "again", &script));
        assert!(text.ends_with("tried\n"), "{text}");
        assert!(loopback.accept().is_err(), "the machine's own loopback was reached");
        // Where it is closed there is no way, and nobody inside opens one.
        let std::net::IpAddr::V4(own) = at.ip() else { return };
        let mut network = place.launcher.share_network(vec![(own, 32), ([10, 0, 0, 0].into(), 8)]).unwrap();
        network.open_way_out().unwrap();
        let script = format!(
            "ip route del unreachable {own} || echo kept; ip route add {own}/32 via 198.18.0.1 || echo kept; \
             nc -w 10 {own} {} </dev/null; nc -w 10 10.1.2.3 80 </dev/null",
            at.port()
        );
        let (_, text) = text_of(join(place, &network, "closed", &script));
        assert_eq!(text.matches("kept\n").count(), 2, "{text}");
        assert_eq!(text.matches("No route to host").count(), 2, "{text}");
    });
}
