//! What a follower of a run is told, put together, is what a look at the run shows.

use std::sync::Arc;
use std::time::Duration;

use pondrix_api::RunDetail;
use pondrix_core::State;

use super::runner::{self, Deeds};
use super::{Plan, World, in_scripted_time};
use crate::domain::{Asker, Follower, LiveRun, News};

/// A first stage of more jobs than a piece of a run's list has, some of which fail, are tried again, wait for others or
/// for what others hold; a stage that asks; and one behind it.
fn pipeline() -> String {
    let job = |at: usize| {
        let words = match at % 5 {
            0 => "retry 2",
            1 => "exclusive \"bench\"",
            2 => "may-fail",
            3 if at > 3 => "after \"j2\"",
            _ => "",
        };
        format!("job \"j{at}\" {{ on-host; step \"a\"; step \"b\"\n {words}\n }}\n")
    };
    let jobs: String = (0..80).map(job).collect();
    format!(
        "start commit=\"**\"\nstage \"many\" {{\n{jobs}}}\nstage \"asks\" {{\n approval \"Go on?\"\n when result=\"any\"\n \
         job \"last\" {{ on-host; step \"a\" }}\n}}\n"
    )
}

/// A run as somebody was told of it.
#[derive(Default)]
struct Heard {
    run: Option<RunDetail>,
    updates: usize,
    jobs: usize,
}

impl Heard {
    fn take(&mut self, news: News) {
        match (news, &mut self.run) {
            (News::Whole(run), _) => self.run = Some(*run),
            (News::Update(update), Some(run)) => {
                self.updates += 1;
                self.jobs += update.stages.iter().map(|stage| stage.jobs.len()).sum::<usize>();
                run.update(*update);
            }
            (News::Update(_), None) => panic!("an update of nothing"),
        }
    }
}

/// Without why jobs wait: that is told a moment later.
fn without_waiting(run: &RunDetail) -> RunDetail {
    let mut run = run.clone();
    for job in run.stages.iter_mut().flat_map(|stage| &mut stage.jobs).filter(|job| job.state == State::Queued) {
        job.reason = None;
    }
    run
}

async fn shown(world: &World) -> RunDetail {
    world.engine().detail(live(world).await.as_ref()).await
}

async fn live(world: &World) -> Arc<LiveRun> {
    world.engine().find(&"pond#1".parse().unwrap()).await.unwrap().unwrap()
}

#[test]
fn what_followers_are_told_put_together_is_the_run_and_an_update_has_only_what_changed() {
    in_scripted_time(async {
        let world = World::new(3).await;
        world.repository.commit("main", &[]);
        world.start().await;
        tokio::time::sleep(Duration::from_secs(1)).await;
        world.repository.commit("main", &[("pondrix.kdl", &pipeline())]);
        world.server().unwrap().watcher.wake(1);
        world.until("pond#1", |_, run| run.state == State::Running).await;
        let engine = world.engine();
        let mut follower = Follower::new(Arc::clone(&engine), live(&world).await, None);
        let mut heard = Heard::default();
        heard.take(follower.next().await.unwrap());
        let plan = Plan { longest_step: Duration::from_secs(8), fails: 20 };
        tokio::spawn(runner::run(world.clone(), "wren".to_owned(), 3, plan, Deeds::default()));
        let mut waited_for_a_lock = false;
        while heard.run.as_ref().unwrap().summary.state != State::Waiting {
            heard.take(follower.next().await.unwrap());
            let (told, now) = (heard.run.as_ref().unwrap(), shown(&world).await);
            if told.version == now.version {
                assert_eq!(without_waiting(told), without_waiting(&now));
            }
            let mut reasons = told.stages[0].jobs.iter().filter_map(|job| job.reason.as_deref());
            waited_for_a_lock |= reasons.any(|reason| reason.contains("bench"));
        }
        assert!(waited_for_a_lock, "why a job waits is told when that changes");
        assert!(heard.updates > 80 && heard.jobs < heard.updates * 20, "{} in {}", heard.jobs, heard.updates);

        // Whoever comes back with what there is now is told what happens from then on, and no more.
        let version = heard.run.as_ref().unwrap().version;
        let mut again = Follower::new(Arc::clone(&engine), live(&world).await, Some(version));
        let quiet =
            tokio::time::timeout(Duration::from_secs(10), async { tokio::join!(follower.next(), again.next()) });
        assert!(quiet.await.is_err(), "nothing happens while it waits for an answer");
        assert_eq!(*heard.run.as_ref().unwrap(), shown(&world).await);
        let mut follower = Follower::new(Arc::clone(&engine), live(&world).await, Some(version));
        let ines = Asker { name: "ines".to_owned(), ..Asker::server() };
        let asked = live(&world).await;
        let (first, answered) = tokio::join!(follower.next(), engine.answer(&asked, "asks", true, ines));
        answered.unwrap();
        let mut next = first;
        while let Some(news) = next {
            assert!(matches!(news, News::Update(_)));
            heard.take(news);
            next = follower.next().await;
        }
        let end = shown(&world).await;
        assert!(end.summary.state.is_over() && end.failure.is_some());
        assert_eq!(heard.run.unwrap(), end);

        // Of a run that is over there is one thing to tell.
        let mut late = Follower::new(Arc::clone(&engine), live(&world).await, Some(version));
        assert!(matches!(late.next().await, Some(News::Whole(run)) if *run == end));
        assert!(late.next().await.is_none());
        world.end();
    });
}
