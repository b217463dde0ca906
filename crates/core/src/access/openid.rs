//! Whom a provider of OpenID Connect signs in, as people are known here.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::id::is_plain_name;

/// The longest subject, in bytes (OpenID Connect Core 1.0, section 2, "sub").
const LONGEST_SUBJECT: usize = 255;
/// The most teams that somebody is of.
const MOST_TEAMS: usize = 100;

/// What of a provider's claims says who somebody is, and of which teams.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OpenIdRules {
    /// The claim that has somebody's name.
    pub name_claim: String,
    /// The domain that is left out of names which are addresses of mail. Where one is said, no others are taken.
    #[serde(default)]
    pub domain: Option<String>,
    /// The claim that lists the groups that somebody is of.
    pub groups_claim: String,
    /// How the groups begin that are teams here, which is left out of their names; all groups are, where nothing is said.
    #[serde(default)]
    pub group_prefix: Option<String>,
    /// Who is of one of these groups may sign in; everybody may, where none is named.
    #[serde(default)]
    pub only: Vec<String>,
}

impl Default for OpenIdRules {
    fn default() -> Self {
        let (name_claim, groups_claim) = ("preferred_username".to_owned(), "groups".to_owned());
        Self { name_claim, domain: None, groups_claim, group_prefix: None, only: Vec::new() }
    }
}

/// Somebody whom a provider signed in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OpenIdPerson {
    /// Who they are at the provider: it never gives this to somebody else, as it may a name.
    pub subject: String,
    /// What they are called here when they come first.
    pub name: String,
    /// The teams that they are of now, by name.
    pub teams: Vec<String>,
}

/// Why somebody whom a provider signed in is not let in.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotLetIn {
    /// The provider does not say who they are.
    #[error("the provider says nothing in `{0}`, which is to say who somebody is; another claim: --name-claim")]
    NoClaim(String),
    /// The name cannot be one here.
    #[error(
        "`{0}` cannot be a person's name: a-z, 0-9 and `-`, at most 63; another claim of the provider: --name-claim"
    )]
    Name(String),
    /// An address of mail of somebody else's domain, or one that nobody proved to be theirs.
    #[error("`{0}` is no verified address of mail in the domain that people have here")]
    Domain(String),
    /// They are of none of the groups that may sign in.
    #[error("only who is of one of these groups may sign in here: {0}")]
    Group(String),
}

/// Who somebody is, by what a provider says of them.
///
/// # Errors
/// When they are not let in.
pub fn openid_person(claims: &Map<String, Value>, rules: &OpenIdRules) -> Result<OpenIdPerson, NotLetIn> {
    let text = |name: &str| claims.get(name).and_then(Value::as_str).filter(|text| !text.is_empty());
    let subject = text("sub").filter(|subject| subject.len() <= LONGEST_SUBJECT);
    let subject = subject.ok_or_else(|| NotLetIn::NoClaim("sub".to_owned()))?;
    let said = text(&rules.name_claim).ok_or_else(|| NotLetIn::NoClaim(rules.name_claim.clone()))?;
    let groups = match claims.get(&rules.groups_claim) {
        Some(Value::Array(all)) => all.iter().filter_map(Value::as_str).collect(),
        Some(Value::String(one)) => vec![one.as_str()],
        _ => Vec::new(),
    };
    if !rules.only.is_empty() && !rules.only.iter().any(|only| groups.contains(&only.as_str())) {
        return Err(NotLetIn::Group(rules.only.join(", ")));
    }
    let name = match &rules.domain {
        None => said,
        Some(domain) => {
            // Section 5.1: an address that is not verified may be anybody's.
            let is_verified = rules.name_claim != "email" || claims.get("email_verified") == Some(&Value::Bool(true));
            let (name, of) = said.rsplit_once('@').unwrap_or((said, ""));
            let is_own = of.eq_ignore_ascii_case(domain) && is_verified;
            is_own.then_some(name).ok_or_else(|| NotLetIn::Domain(said.to_owned()))?
        }
    };
    let name = plain(name).ok_or_else(|| NotLetIn::Name(said.to_owned()))?;
    let prefix = rules.group_prefix.as_deref().unwrap_or_default();
    // A group that cannot be a team's name is none here.
    let mut teams: Vec<String> = groups.into_iter().filter_map(|group| plain(group.strip_prefix(prefix)?)).collect();
    teams.sort();
    teams.dedup();
    teams.truncate(MOST_TEAMS);
    Ok(OpenIdPerson { subject: subject.to_owned(), name, teams })
}

/// A name as names are here; nothing where it cannot be one.
fn plain(text: &str) -> Option<String> {
    let plain: String = text.to_lowercase().replace(['.', '_', ' '], "-");
    is_plain_name(&plain).then_some(plain)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn claims(more: Value) -> Map<String, Value> {
        let mut claims =
            json!({ "sub": "4711", "preferred_username": "Wren.Fern", "groups": ["Growers", "night watch"] });
        claims.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        claims.as_object().unwrap().clone()
    }

    fn person(more: Value, rules: &OpenIdRules) -> Result<OpenIdPerson, NotLetIn> {
        openid_person(&claims(more), rules)
    }

    #[test]
    fn somebody_is_who_the_provider_says_in_letters_that_names_have_here() {
        let known = person(json!({}), &OpenIdRules::default()).unwrap();
        assert_eq!((known.subject.as_str(), known.name.as_str()), ("4711", "wren-fern"));
        assert_eq!(known.teams, ["growers", "night-watch"]);
        let one = person(json!({ "groups": "growers" }), &OpenIdRules::default()).unwrap();
        assert_eq!(one.teams, ["growers"]);
        let none = person(json!({ "groups": [1, "a/b", ""] }), &OpenIdRules::default()).unwrap();
        assert_eq!(none.teams, Vec::<String>::new());
        for (more, why) in [
            (json!({ "sub": "" }), NotLetIn::NoClaim("sub".to_owned())),
            (json!({ "sub": "x".repeat(256) }), NotLetIn::NoClaim("sub".to_owned())),
            (json!({ "preferred_username": null }), NotLetIn::NoClaim("preferred_username".to_owned())),
            (json!({ "preferred_username": "wren@fern" }), NotLetIn::Name("wren@fern".to_owned())),
        ] {
            assert_eq!(person(more, &OpenIdRules::default()), Err(why));
        }
    }

    #[test]
    fn groups_are_teams_that_begin_as_is_said_and_who_is_of_none_that_may_is_not_let_in() {
        let rules = OpenIdRules {
            group_prefix: Some("pond-".to_owned()),
            only: vec!["pond-users".to_owned()],
            ..OpenIdRules::default()
        };
        let known = person(json!({ "groups": ["pond-users", "others", "pond-keepers"] }), &rules).unwrap();
        assert_eq!(known.teams, ["keepers", "users"]);
        assert_eq!(person(json!({ "groups": ["users"] }), &rules), Err(NotLetIn::Group("pond-users".to_owned())));
    }

    #[test]
    fn of_addresses_of_mail_only_verified_ones_of_the_own_domain_are_names() {
        let rules = OpenIdRules {
            name_claim: "email".to_owned(),
            domain: Some("fernhollow.test".to_owned()),
            ..OpenIdRules::default()
        };
        let mail = |address: &str, verified: bool| {
            person(json!({ "email": address, "email_verified": verified }), &rules).map(|known| known.name)
        };
        assert_eq!(mail("wren@Fernhollow.test", true), Ok("wren".to_owned()));
        for (address, verified) in
            [("wren@fernhollow.test", false), ("wren@lake.test", true), ("wren", true), ("wren@x@lake.test", true)]
        {
            assert_eq!(mail(address, verified), Err(NotLetIn::Domain(address.to_owned())));
        }
    }
}
