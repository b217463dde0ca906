//! Shares of a busy disk.

use std::time::Duration;

use pondrix_sandbox::{Limits, disk_shares, settle};

use crate::place::Place;

/// Tells the test that this machine was made ready for it.
const DEMANDED: &str = "SANDBOX_TEST_DISK_WEIGHTS";

#[test]
fn jobs_share_a_busy_disk_by_the_weights_of_their_projects() {
    settle().unwrap();
    let place = Place::new();
    let shares = match disk_shares(place.folder.path()) {
        Ok(shares) => shares,
        Err(error) if std::env::var_os(DEMANDED).is_some() => panic!("{error}"),
        Err(error) => return eprintln!("nothing to see: {error}"),
    };
    let launcher = place.launcher.clone().with_disk_shares(Some(shares));
    let busy = "mkdir /held; for i in 1 2 3 4; do
        (while :; do busybox dd if=/dev/zero of=/held/$i bs=256k count=64 oflag=direct conv=notrunc 2>/dev/null; done) &
        done; echo busy; wait";
    let start = |name: &str, weight: u32| {
        let limits = Limits { memory: Some(256 << 20), processes: Some(100), ..Limits::default() };
        let launcher = launcher.limited(&Limits { weight: Some(weight), ..limits }).unwrap();
        let (running, reader) = place.busy(&launcher, name, busy);
        (launcher, running, reader)
    };
    let (light, mut heavy) = (start("light", 1), start("heavy", 50));
    let written = || [&light.0, &heavy.0].map(|launcher| launcher.usage().unwrap().written.unwrap());
    // The files are there before the measurement.
    let measured = |bytes: u64, heavy: &mut pondrix_sandbox::Running| {
        let before = written();
        loop {
            let now = written();
            let since = [now[0] - before[0], now[1] - before[1]];
            if since[0] + since[1] > bytes {
                return since;
            }
            assert!(heavy.wait_at_most(Duration::from_millis(50)).is_none());
        }
    };
    measured(256 << 20, &mut heavy.1);
    let [light_wrote, heavy_wrote] = measured(512 << 20, &mut heavy.1);
    println!("{shares:?}: {light_wrote} bytes with weight 1, {heavy_wrote} with weight 50");
    assert!(heavy_wrote > 3 * light_wrote, "{heavy_wrote} and {light_wrote}");
}
