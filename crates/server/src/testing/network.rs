//! The way between runners and the server, which loses, doubles, delays and cuts off.

use std::collections::BTreeSet;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use futures_util::future::BoxFuture;

use super::{Random, World};
use crate::domain::Engine;

/// Nobody answered.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Unanswered;

/// How messages fare.
#[derive(Clone, Debug)]
pub(crate) struct Network {
    random: Random,
    state: Arc<Mutex<Weather>>,
}

#[derive(Debug, Default)]
struct Weather {
    /// How often in a hundred times a message is lost on its way there, or its answer on its way back.
    loses: u64,
    /// How often in a hundred times a message comes twice, the second time later than others.
    doubles: u64,
    /// The longest that a message is on its way.
    slow: Duration,
    /// The runners that the server cannot be reached from.
    cut_off: BTreeSet<String>,
}

/// How long whoever asks waits for an answer that does not come.
const PATIENCE: Duration = Duration::from_secs(10);

impl Network {
    pub(crate) fn new(random: &Random) -> Self {
        Self { random: random.clone(), state: Arc::default() }
    }

    pub(crate) fn spoil(&self, loses: u64, doubles: u64, slow: Duration) {
        let mut state = self.state.lock().unwrap();
        (state.loses, state.doubles, state.slow) = (loses, doubles, slow);
    }

    /// Cuts a runner off, or connects it again.
    pub(crate) fn cut_off(&self, runner: &str, is_cut: bool) {
        let mut state = self.state.lock().unwrap();
        if is_cut {
            state.cut_off.insert(runner.to_owned());
        } else {
            state.cut_off.remove(runner);
        }
    }

    pub(crate) fn heal(&self) {
        *self.state.lock().unwrap() = Weather::default();
    }

    fn is_lost(&self, runner: &str) -> bool {
        let state = self.state.lock().unwrap();
        state.cut_off.contains(runner) || self.random.percent(state.loses)
    }

    fn delay(&self) -> Duration {
        let longest = self.state.lock().unwrap().slow;
        self.random.up_to(longest)
    }

    /// Asks the server that runs when the message arrives.
    pub(crate) async fn ask<T: Send + 'static>(
        &self,
        world: &World,
        runner: &str,
        question: impl Fn(Arc<Engine>) -> BoxFuture<'static, T> + Send + Sync + 'static,
    ) -> Result<T, Unanswered> {
        tokio::time::sleep(self.delay()).await;
        if self.is_lost(runner) {
            tokio::time::sleep(PATIENCE).await;
            return Err(Unanswered);
        }
        let Some(server) = world.server() else {
            tokio::time::sleep(Duration::from_millis(200)).await;
            return Err(Unanswered);
        };
        let question = Arc::new(question);
        let doubles = self.state.lock().unwrap().doubles;
        if self.random.percent(doubles) {
            let (again, later, engine) = (Arc::clone(&question), self.delay(), Arc::clone(&server.engine));
            tokio::spawn(async move {
                tokio::time::sleep(later).await;
                drop(again(engine).await);
            });
        }
        // A server that is killed meanwhile answers nobody.
        let answer = tokio::select! {
            biased;
            () = server.ended() => None,
            answer = question(Arc::clone(&server.engine)) => Some(answer),
        };
        tokio::time::sleep(self.delay()).await;
        match answer {
            Some(answer) if !self.is_lost(runner) => Ok(answer),
            _ => {
                tokio::time::sleep(PATIENCE).await;
                Err(Unanswered)
            }
        }
    }
}
