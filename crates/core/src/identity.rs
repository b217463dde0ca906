//! What a signed token says of the job that it is given to, and which key signs it.

use serde::{Deserialize, Serialize};

use crate::pipeline::StartKind;
use crate::work::RunFacts;
use crate::{JobKey, ProjectName, Time};

const HOUR: i64 = 60 * 60 * 1000;
const DAY: i64 = 24 * HOUR;
/// How old a key is when another one is made.
const RENEWED_AFTER: i64 = 30 * DAY;
/// How long a key can be seen before it signs: whoever checks tokens may remember the keys for a day.
const SEEN_BEFORE: i64 = DAY;
/// How long a key can still be seen when another one signs: the longest that a token lasts, and a day for clocks.
const SEEN_AFTER: i64 = DAY + HOUR;

/// What the token of a job says (RFC 7519, section 4; OpenID Connect Core 1.0, section 2).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Claims {
    /// The address of the server that signed it.
    pub iss: String,
    /// Whom it speaks of: `project/NAME/branch/NAME`, `project/NAME/tag/NAME`, `project/NAME/try` for files that are not
    /// committed, `project/NAME/commit` for a commit that its branch or tag does not have now, or `project/NAME` where it is
    /// the server that shows it.
    pub sub: String,
    /// Whom it is for.
    pub aud: String,
    /// When it was made, from when and until when it is good: seconds since 1970-01-01T00:00:00Z.
    pub iat: i64,
    /// See `iat`.
    pub nbf: i64,
    /// See `iat`.
    pub exp: i64,
    /// No two tokens have the same.
    pub jti: String,
    /// The project.
    pub project: ProjectName,
    /// What it says of the job; nothing where the server itself shows it for the project.
    #[serde(flatten)]
    pub of_job: Option<JobClaims>,
}

/// What is said of a job.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct JobClaims {
    /// The ref in full, as in `refs/heads/main`; nothing for what is in none.
    #[serde(rename = "ref", skip_serializing_if = "Option::is_none")]
    pub git_ref: Option<String>,
    /// Whether the run is of a ref that the project protects.
    pub protected: bool,
    /// The environment that the job's stage goes to, where the run may go there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub environment: Option<String>,
    /// The commit's full id.
    pub commit: String,
    /// The run's number.
    pub run: u64,
    /// The job: its stage and name.
    pub job: JobKey,
    /// Why the run began.
    pub start: StartKind,
}

/// Whom a token is made for, and when.
#[derive(Clone, Debug)]
pub struct Occasion<'a> {
    /// The address of the server.
    pub issuer: &'a str,
    /// Whom it is for.
    pub audience: &'a str,
    /// When it is made.
    pub now: Time,
    /// How long it is good for, in seconds.
    pub seconds: u32,
    /// No other token has this.
    pub number: String,
}

/// What the server knows of a job, besides what its run says.
#[derive(Clone, Debug)]
pub struct Standing {
    /// Whether the run is of a ref that the project protects.
    pub protected: bool,
    /// Whether its branch or tag has its commit: whoever checks tokens by the name of a branch must see no other.
    pub is_in_ref: bool,
    /// The environment that the job's stage goes to, where the run may go there.
    pub environment: Option<String>,
}

impl Claims {
    /// What is said of a project.
    #[must_use]
    pub fn of_project(project: &ProjectName, occasion: Occasion<'_>) -> Self {
        let iat = occasion.now.millis().div_euclid(1000);
        Self {
            iss: occasion.issuer.to_owned(),
            sub: format!("project/{project}"),
            aud: occasion.audience.to_owned(),
            iat,
            nbf: iat,
            exp: iat + i64::from(occasion.seconds),
            jti: occasion.number,
            project: project.clone(),
            of_job: None,
        }
    }

    /// What is said of a job of a run.
    #[must_use]
    pub fn of_job(facts: &RunFacts, job: &JobKey, standing: Standing, occasion: Occasion<'_>) -> Self {
        let project = &facts.id.project;
        let (sub, git_ref) = match &facts.tag {
            _ if facts.is_try => (format!("project/{project}/try"), None),
            _ if !standing.is_in_ref => (format!("project/{project}/commit"), None),
            Some(tag) => (format!("project/{project}/tag/{tag}"), Some(format!("refs/tags/{tag}"))),
            None => {
                (format!("project/{project}/branch/{}", facts.branch), Some(format!("refs/heads/{}", facts.branch)))
            }
        };
        let of_job = JobClaims {
            git_ref,
            protected: standing.protected,
            environment: standing.environment,
            commit: facts.commit.clone(),
            run: facts.id.number,
            job: job.clone(),
            start: facts.start,
        };
        Self { sub, of_job: Some(of_job), ..Self::of_project(project, occasion) }
    }
}

/// When the keys that sign were made, the oldest first.
#[derive(Clone, Copy, Debug)]
pub struct Made<'a>(pub &'a [Time]);

impl Made<'_> {
    /// Whether another key is to be made.
    #[must_use]
    pub fn needs_another(self, now: Time) -> bool {
        self.0.last().is_none_or(|newest| now >= newest.plus_millis(RENEWED_AFTER))
    }

    /// Which key signs: the newest that could be seen for long enough; the oldest where none could.
    #[must_use]
    pub fn signs(self, now: Time) -> Option<usize> {
        let was_seen = |made: &Time| now >= made.plus_millis(SEEN_BEFORE);
        self.0.iter().rposition(was_seen).or((!self.0.is_empty()).then_some(0))
    }

    /// How many of the oldest keys signed nothing that is still good.
    #[must_use]
    pub fn are_over(self, now: Time) -> usize {
        // The one behind it signs since it was seen for long enough.
        let is_over = |next: &&Time| now >= next.plus_millis(SEEN_BEFORE + SEEN_AFTER);
        self.0.iter().skip(1).take_while(is_over).count()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn facts() -> RunFacts {
        RunFacts {
            id: "visitor-desk#7".parse().unwrap(),
            commit: "1f3a".repeat(10),
            branch: "main".to_owned(),
            tag: None,
            commit_time: Time::default(),
            start: StartKind::Commit,
            inputs: [].into(),
            is_try: false,
            was_trusted: true,
        }
    }

    fn claims(facts: &RunFacts) -> Claims {
        Claims::of_job(
            facts,
            &JobKey::new("release", "web"),
            Standing { protected: true, is_in_ref: true, environment: None },
            occasion(),
        )
    }

    fn occasion() -> Occasion<'static> {
        Occasion {
            issuer: "https://pond.test",
            audience: "vault",
            now: Time::from_millis(5_999),
            seconds: 60,
            number: "n".to_owned(),
        }
    }

    #[test]
    fn a_token_says_which_ref_of_which_project_it_speaks_of() {
        let branch = claims(&facts());
        assert_eq!(branch.sub, "project/visitor-desk/branch/main");
        assert_eq!((branch.iat, branch.nbf, branch.exp), (5, 5, 65));
        let json = serde_json::to_value(&branch).unwrap();
        assert_eq!((json["ref"].as_str(), json["run"].as_u64()), (Some("refs/heads/main"), Some(7)));
        assert!(json.get("environment").is_none());
        assert_eq!(serde_json::from_value::<Claims>(json).unwrap(), branch);
        let of_server = Claims::of_project(&facts().id.project, occasion());
        assert_eq!(of_server.sub, "project/visitor-desk");
        assert!(serde_json::to_value(&of_server).unwrap().get("ref").is_none());
        let tag = claims(&RunFacts { tag: Some("v1".to_owned()), ..facts() });
        assert_eq!(
            (tag.sub.as_str(), tag.of_job.unwrap().git_ref.as_deref()),
            ("project/visitor-desk/tag/v1", Some("refs/tags/v1"))
        );
        let gone = Standing { protected: false, is_in_ref: false, environment: None };
        let gone = Claims::of_job(&facts(), &JobKey::new("verify", "unit"), gone, occasion());
        assert_eq!((gone.sub.as_str(), gone.of_job.unwrap().git_ref), ("project/visitor-desk/commit", None));
        let tried = claims(&RunFacts { is_try: true, tag: Some("v1".to_owned()), ..facts() });
        assert_eq!((tried.sub.as_str(), tried.of_job.unwrap().git_ref), ("project/visitor-desk/try", None));
    }

    proptest! {
        /// Whoever looks at the keys at least once a day knows the one that signs; and whatever was signed can be checked as
        /// long as it is good.
        #[test]
        fn every_token_can_be_checked_by_whoever_looks_daily(pauses in proptest::collection::vec(1i64..400, 1..300)) {
            let (mut made, mut now) = (Vec::new(), 0);
            // What signed, and until when that is good; and what was seen when.
            let mut signed: Vec<(Time, i64)> = Vec::new();
            let mut seen: Vec<(i64, Vec<Time>)> = Vec::new();
            for hours in pauses {
                now += hours * HOUR / 4;
                let at = Time::from_millis(now);
                if Made(&made).needs_another(at) {
                    made.push(at);
                }
                made.drain(..Made(&made).are_over(at));
                let key = made[Made(&made).signs(at).unwrap()];
                signed.retain(|(_, end)| *end >= now);
                for (key, _) in &signed {
                    prop_assert!(made.contains(key), "what it signed is still good");
                }
                let a_day_ago = seen.iter().rev().find(|(then, _)| *then <= now - DAY);
                if let Some((_, then)) = a_day_ago.filter(|(then, _)| *then > now - 2 * DAY) {
                    prop_assert!(then.contains(&key), "it could be seen a day before it signed");
                }
                seen.push((now, made.clone()));
                signed.push((key, now + HOUR));
            }
            prop_assert!(made.len() <= 3);
        }
    }
}
