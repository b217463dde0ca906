//! The demo: the whole world on loopback, and a story that checks itself.

mod checks;
mod story;
mod strangers;
mod trials;
mod world;

use std::path::PathBuf;
use std::process::ExitCode;

use pondrix_files::TemporaryFolder;
use pondrix_runner::{limits_are_usable, require};

use crate::failure::{FAILED, Failure, Outcome};
use crate::shared::machine_check;
use crate::{output, signals};
use world::World;

/// Runs the demo, in a folder or in a temporary one.
pub(crate) async fn run(data: Option<PathBuf>, once: bool) -> Outcome {
    let shutdown = signals::shutdown()?;
    let temporary =
        if data.is_none() { Some(TemporaryFolder::named("pondrix-demo-", &std::env::temp_dir())?) } else { None };
    let folder = match (&temporary, data) {
        (Some(temporary), _) => temporary.path().to_owned(),
        (None, Some(data)) => {
            let is_used = std::fs::read_dir(&data).is_ok_and(|mut entries| entries.next().is_some());
            if is_used {
                let message = format!("{} is not empty, and the demo begins anew each time", data.display());
                return Err(Failure::usage(message).advise("name another folder, or empty it"));
            }
            std::fs::create_dir_all(&data)?;
            data.canonicalize()?
        }
        (None, None) => return Err(Failure::new("no folder")),
    };
    // The services' own log goes to a file: the screen is for the story.
    let log = std::fs::File::create(folder.join("demo.log"))?;
    tracing_subscriber::fmt()
        .with_writer(log)
        .with_ansi(false)
        .with_target(false)
        .with_max_level(tracing::Level::INFO)
        .init();
    output::line(&format!("Everything is kept in {}", folder.display()));
    require(&folder, false).map_err(|unfit| machine_check::failure(&unfit))?;
    if let Err(error) = limits_are_usable() {
        output::line(&format!("Jobs of the demo run without limits. {error}"));
    }
    let world = World::start(&folder, once).await?;
    let played = tokio::select! {
        played = story::play(&world, once) => Some(played),
        () = shutdown.cancelled() => None,
    };
    let status = match played {
        Some(Ok(())) if once => ExitCode::SUCCESS,
        Some(Ok(())) => {
            invite(&world);
            shutdown.cancelled().await;
            output::line("\nEnding everything");
            ExitCode::SUCCESS
        }
        Some(Err(words)) => {
            output::line(&format!("\nfailed: {words}"));
            world.show_log();
            ExitCode::from(FAILED)
        }
        None => ExitCode::SUCCESS,
    };
    world.end().await;
    Ok(status)
}

/// What to do next, for whoever stays.
fn invite(world: &World) {
    let console = &world.server_address;
    output::line(&format!("\n  console      {}", output::strong(console)));
    output::line(&format!("  sign in with {}", world.admin_token));
    output::line(&format!("  application  {}", output::strong(&format!("http://{}", world.application))));
    output::line("\nTry these three, and watch the console while the change goes through:");
    let repository = world.repository("visitor-desk").bare.display().to_string();
    output::line(&format!("  git clone {repository} desk && cd desk"));
    output::line("  echo \"Good evening from Fernhollow\" > desk/greeting.txt");
    output::line("  git commit -am \"A greeting for the evening\" && git push");
    output::line("\nThe other commands, from another terminal:");
    output::line(&format!("  export PONDRIX_URL={console} PONDRIX_TOKEN={}", world.admin_token));
    output::line("  pondrix runs");
    output::line("\nAs others see it, with their tokens:");
    for (name, about) in [
        ("wren", "may run plant-labels, and sees no other project"),
        ("tomas", "maintains visitor-desk"),
        ("odile", "sees all, and says yes to production"),
    ] {
        if let Some(token) = world.people.get(name) {
            output::line(&format!("  {name:<6} {token}  {about}"));
        }
    }
    output::line("\nCtrl-C ends everything.");
}
