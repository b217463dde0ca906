//! The task: one message after the other.

use std::collections::BTreeMap;

use pondrix_api::{PauseView, RunnerView};
use pondrix_core::queue::{Limits, Offer};
use pondrix_core::run::Hold;
use pondrix_core::{JobKey, RunId, Time};
use tokio::sync::{mpsc, oneshot};

use super::state::{Asking, State};
use super::{Grant, Greeting, Lease, LeaseHash, Overdue, Scheduler};

/// What the task is told and asked. The methods of [`Scheduler`] say what each means.
#[derive(Debug)]
pub(super) enum Message {
    Offered(Offer),
    Returned(Offer),
    Updated {
        run: RunId,
        holds: Option<Vec<Hold>>,
    },
    Released {
        run: RunId,
        job: JobKey,
    },
    Leased {
        lease: Lease,
        is_restored: bool,
    },
    Confirmed {
        number: i64,
    },
    Limited(Limits),
    Paused(BTreeMap<String, PauseView>),
    Forgotten {
        name: String,
        reply: oneshot::Sender<Vec<Lease>>,
    },
    Greeted {
        greeting: Greeting,
        now: Time,
        reply: oneshot::Sender<Vec<Lease>>,
    },
    Asked {
        runner: Option<String>,
        now: Time,
        grant: oneshot::Sender<Grant>,
        reply: oneshot::Sender<bool>,
    },
    Shown {
        number: i64,
        hash: LeaseHash,
        now: Time,
        reply: oneshot::Sender<Option<Lease>>,
    },
    Claimed {
        number: i64,
        tag: String,
        reply: oneshot::Sender<bool>,
    },
    Ticked {
        reply: oneshot::Sender<Vec<(Lease, Overdue)>>,
    },
    Explained {
        run: RunId,
        jobs: Vec<JobKey>,
        reply: oneshot::Sender<Vec<Option<String>>>,
    },
    Listed {
        reply: oneshot::Sender<Vec<RunnerView>>,
    },
    #[cfg(test)]
    Held {
        reply: oneshot::Sender<Vec<(RunId, Hold)>>,
    },
}

/// Handles messages until the last handle is gone.
pub(super) async fn run(own: mpsc::WeakUnboundedSender<Message>, mut messages: mpsc::UnboundedReceiver<Message>) {
    let mut state = State::default();
    while let Some(message) = messages.recv().await {
        state.handle(message);
        // What waits already is one change to those who ask.
        while let Ok(message) = messages.try_recv() {
            state.handle(message);
        }
        let Some(sender) = own.upgrade() else { return };
        let scheduler = Scheduler(sender);
        state.serve(|offer, instance| Grant { offer: Some(offer), instance, scheduler: scheduler.clone() });
    }
}

impl State {
    fn handle(&mut self, message: Message) {
        // Whoever asked may have stopped waiting: then nobody needs the answer.
        match message {
            Message::Offered(offer) => self.offer(offer),
            Message::Returned(offer) => {
                self.release(&offer.run, &offer.job);
                self.offer(offer);
            }
            Message::Updated { run, holds } => self.update(&run, holds),
            Message::Released { run, job } => self.release(&run, &job),
            Message::Leased { lease, is_restored } => self.lease(lease, is_restored),
            Message::Confirmed { number } => self.confirm(number),
            Message::Limited(limits) => self.limit(limits),
            Message::Paused(paused) => self.pause(paused),
            Message::Forgotten { name, reply } => drop(reply.send(self.forget_runner(&name))),
            Message::Greeted { greeting, now, reply } => drop(reply.send(self.greet(greeting, now))),
            Message::Asked { runner, now, grant, reply } => {
                let is_known = runner.as_ref().is_none_or(|runner| self.hear(runner, now));
                if is_known {
                    self.asking.push_back(Asking { runner, grant });
                    self.has_changed = true;
                }
                let _ = reply.send(is_known);
            }
            Message::Shown { number, hash, now, reply } => drop(reply.send(self.show(number, &hash, now))),
            Message::Claimed { number, tag, reply } => drop(reply.send(self.claim(number, tag))),
            Message::Ticked { reply } => drop(reply.send(self.overdue())),
            Message::Explained { run, jobs, reply } => drop(reply.send(self.why_waiting(&run, &jobs))),
            Message::Listed { reply } => drop(reply.send(self.views())),
            #[cfg(test)]
            Message::Held { reply } => drop(reply.send(self.holders())),
        }
    }
}
