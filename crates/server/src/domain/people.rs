//! People, and what they may do.

use std::sync::Arc;

use pondrix_api::{NewUser, RoleChange, UserMade, UserView};
use pondrix_core::access::{Grant, Holder, Need, Projects, Rights, Role};
use pondrix_core::{ProjectName, Time};
use rusqlite::Connection;

use super::{Engine, EngineError};
use crate::audit::{self, Change};
use crate::store::{self, StoreError, TokenKind, TokenRow};

/// Who asks for something.
#[derive(Clone, Debug)]
pub(crate) struct Asker {
    /// Their name.
    pub(crate) name: String,
    /// The teams that they are of.
    pub(crate) teams: Vec<String>,
    /// What they may do.
    pub(crate) rights: Arc<Rights>,
    /// The token that they show.
    pub(crate) token: i64,
    /// Whether another was put in its place.
    pub(crate) is_replaced: bool,
}

impl Asker {
    /// The server itself, which ends what it has begun.
    pub(crate) fn server() -> Self {
        let rights = Rights { grants: vec![Grant::everywhere(Role::Administer)], limit: None };
        Self {
            name: "the server".to_owned(),
            teams: Vec::new(),
            rights: Arc::new(rights),
            token: 0,
            is_replaced: false,
        }
    }

    /// Whether they may see a project.
    pub(crate) fn may_see(&self, project: &str) -> bool {
        self.rights.allow(Need::Look, Some(project))
    }

    /// Refuses what is for whoever administers all projects (or has what `need` says), and for whoever may set what is for
    /// these alone ([`Rights::allow_setting_for`]), where it was set by such. Answers whether it is the latter who asks.
    pub(crate) fn must_set(
        &self,
        need: Need,
        name: Option<&str>,
        before: Option<(bool, &[Projects])>,
        after: &[Projects],
    ) -> Result<bool, EngineError> {
        if self.rights.allow(need, None) {
            return Ok(false);
        }
        let was_own = before.is_none_or(|(is_own, projects)| is_own && self.rights.allow_setting_for(name, projects));
        if was_own && self.rights.allow_setting_for(name, after) {
            return Ok(true);
        }
        let named = name.map_or_else(String::new, |name| format!(", and `add` for the name {name}"));
        Err(EngineError::Forbidden(format!(
            "this asks for the role `{}` for all projects; what is for some alone (--project), and was set by no \
             administrator, asks for `maintain` and `add` for all of those{named}. {} has not got that; who can give \
             it: pondrix role list",
            need.smallest(),
            self.name
        )))
    }

    /// Refuses what they may not do: in a project, or, where nothing is said, in all of them.
    pub(crate) fn must(&self, need: Need, project: Option<&str>) -> Result<(), EngineError> {
        if self.rights.allow(need, project) {
            return Ok(());
        }
        let role = need.smallest();
        let place = project.map_or_else(|| "for all projects".to_owned(), |project| format!("in {project}"));
        let limited = self.rights.limit.as_ref().filter(|_| {
            let unlimited = Rights { grants: self.rights.grants.clone(), limit: None };
            unlimited.allow(need, project)
        });
        let words = match limited {
            Some(limit) => format!(
                "this asks for the role `{role}` {place}; {} has it, but this token is limited to `{}` in {}",
                self.name, limit.role, limit.projects
            ),
            None => format!(
                "this asks for the role `{role}` {place}, which {} has not; who can give it: pondrix role list",
                self.name
            ),
        };
        Err(EngineError::Forbidden(words))
    }
}

/// A name of a person or team.
fn name(text: &str, of: &str) -> Result<String, EngineError> {
    text.parse::<ProjectName>().map(|name| name.to_string()).map_err(|_| {
        let rule = "1 to 63 of a-z, 0-9 and `-`, with a letter or digit at both ends";
        EngineError::Invalid(format!("`{text}` cannot be {of}: {rule}"))
    })
}

fn teams(all: &[String]) -> Result<Vec<String>, EngineError> {
    let mut teams = all.iter().map(|team| name(team, "a team's name")).collect::<Result<Vec<_>, _>>()?;
    teams.sort();
    teams.dedup();
    Ok(teams)
}

/// `teams keepers, gardeners`; nothing where there is none.
fn named(what: &str, all: &[String]) -> Option<String> {
    (!all.is_empty()).then(|| format!("{what} {}", all.join(", ")))
}

/// Notes which role is given or taken. One in a single project is of that.
fn note_role(to: &Holder, Grant { role, projects }: &Grant) {
    audit::about(to);
    audit::words(format!("{role} in {projects}"));
    if let Some(project) = projects.one() {
        audit::of_project(project);
    }
}

/// What became of a change after which somebody must still be able to administer the server.
enum Guarded<T> {
    Made(T),
    /// Nobody could; it was not made.
    Unguarded,
}

impl<T: Change> Change for Guarded<T> {
    fn is_made(&self) -> bool {
        matches!(self, Self::Made(made) if made.is_made())
    }
}

impl<T> Guarded<T> {
    fn made(self) -> Result<T, EngineError> {
        match self {
            Self::Made(made) => Ok(made),
            Self::Unguarded => Err(EngineError::Conflict(
                "nobody could administer the server then: give another person the role `administer` for all projects first, and a token that is not limited".to_owned(),
            )),
        }
    }
}

impl Engine {
    /// Makes a change of people, roles or tokens, unless nobody could administer the server after it. What everybody may
    /// do is looked up anew from then on.
    pub(super) async fn change_access<T: Change + Send + 'static>(
        &self,
        change: impl Fn(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, EngineError> {
        let now = self.clock.now();
        let guarded = move |connection: &Connection| {
            connection.execute_batch("SAVEPOINT access")?;
            let made = change(connection);
            let stays = made.is_err() || store::is_administered(connection, now)?;
            let end = if stays { "RELEASE access" } else { "ROLLBACK TO access; RELEASE access" };
            connection.execute_batch(end)?;
            Ok(if stays { Guarded::Made(made?) } else { Guarded::Unguarded })
        };
        let known = self.known_tokens.clone();
        let changed = self.store.write_noted_and(now, guarded, move |_| known.forget()).await?;
        changed.made()
    }

    /// Makes a person known, with a first token, which nobody can read again.
    pub(crate) async fn add_user(&self, new: NewUser, by: &Asker) -> Result<UserMade, EngineError> {
        audit::about(&new.name);
        let roles = new.roles.iter().map(|Grant { role, projects }| format!("{role} in {projects}"));
        audit::words(named("teams", &new.teams).into_iter().chain(roles).collect::<Vec<_>>().join("; "));
        by.may_make_tokens()?;
        for grant in &new.roles {
            by.may_give(grant)?;
        }
        let (user, teams, now) = (name(&new.name, "a person's name")?, teams(&new.teams)?, self.clock.now());
        let (token, row) = Self::new_token(&user, "first", None, now, None)?;
        let (giver, grants) = (by.name.clone(), new.roles);
        let view = UserView { name: user.clone(), teams: teams.clone(), created: now, has_password: false };
        let add = move |c: &Connection| {
            store::add_user(c, &user, &teams, now)?;
            let holder = Holder::Person(user.clone());
            grants.iter().try_for_each(|grant| store::give_role(c, &holder, grant, &giver, now))?;
            store::put_token(c, &row)
        };
        let id = self.change_access(add).await?;
        let first = super::tokens::made(token, id, &view.name, "first", now, None, None);
        Ok(UserMade { user: view, first })
    }

    /// Says which teams a person is of. Answers nothing where they are not known.
    pub(crate) async fn change_user(&self, name: String, all: &[String]) -> Result<Option<UserView>, EngineError> {
        let teams = teams(all)?;
        audit::words(named("teams", &teams).unwrap_or_else(|| "of no team".to_owned()));
        let change = move |c: &Connection| {
            store::set_teams(c, &name, &teams)?;
            Ok(store::users(c)?.into_iter().find(|user| user.name == name))
        };
        self.change_access(change).await
    }

    /// Forgets a person, with their roles and tokens, and signs their browsers out; says whether they were known.
    pub(crate) async fn remove_user(&self, name: String) -> Result<bool, EngineError> {
        self.change_access(move |c| store::remove_user(c, &name)).await
    }

    /// Gives a role.
    pub(crate) async fn give_role(&self, change: RoleChange, by: &Asker) -> Result<(), EngineError> {
        let RoleChange { to, role, projects } = change;
        let grant = Grant { role, projects };
        note_role(&to, &grant);
        by.may_give(&grant)?;
        let (name, giver, now) = (to.to_string(), by.name.clone(), self.clock.now());
        let give = move |c: &Connection| {
            let is_known = match &to {
                Holder::Person(name) => store::users(c)?.iter().any(|user| user.name == *name),
                // A team is whoever says that they are of it.
                Holder::Team(_) => true,
            };
            if is_known {
                store::give_role(c, &to, &grant, &giver, now)?;
            }
            Ok(is_known)
        };
        match self.change_access(give).await? {
            true => Ok(()),
            false => Err(EngineError::Invalid(format!(
                "there is no person {name}; make them known with `pondrix user add {name}`, or write team:{name} for a team"
            ))),
        }
    }

    /// Takes a role; says whether it was given.
    pub(crate) async fn take_role(&self, change: RoleChange, by: &Asker) -> Result<bool, EngineError> {
        let RoleChange { to, role, projects } = change;
        let grant = Grant { role, projects };
        note_role(&to, &grant);
        by.may_give(&grant)?;
        self.change_access(move |c| store::take_role(c, &to, &grant)).await
    }

    /// Removes a token; says whether it was there.
    pub(crate) async fn forget_token(&self, id: i64) -> Result<(), EngineError> {
        self.change_access(move |c| store::remove_token(c, id)).await
    }

    /// A new token of a person, made now: itself, and what is kept of it.
    pub(super) fn new_token(
        owner: &str,
        label: &str,
        limit: Option<Grant>,
        created: Time,
        expires: Option<Time>,
    ) -> Result<(String, TokenRow), EngineError> {
        let token = crate::access::new_token()?;
        let row = TokenRow {
            hash: crate::access::hash(&token),
            kind: TokenKind::Person,
            owner: owner.to_owned(),
            label: label.to_owned(),
            created,
            expires,
            limit,
            parent: None,
        };
        Ok((token, row))
    }
}

impl Asker {
    /// Refuses whoever may not say how long the past of a project is kept, or, where none is said, that of all.
    pub(super) fn must_for_rule(&self, project: Option<&ProjectName>) -> Result<(), EngineError> {
        match project {
            // Whether there is a project that they may not see is not told either.
            Some(project) => self.must(Need::Maintain, Some(project.as_str())),
            None => self.must(Need::Administer, None),
        }
    }

    fn may_give(&self, grant: &Grant) -> Result<(), EngineError> {
        if self.rights.allow_giving(grant) {
            return Ok(());
        }
        let words = format!(
            "a role in {} is given and taken by whoever administers that; {} does not",
            if grant.projects.is_all() { "all projects".to_owned() } else { grant.projects.to_string() },
            self.name
        );
        Err(EngineError::Forbidden(words))
    }
}
