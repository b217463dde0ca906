//! What the audit says of a request.

use std::net::IpAddr;

use axum::extract::{FromRequestParts, MatchedPath, RawPathParams};
use axum::http::StatusCode;
use axum::http::request::Parts;
use pondrix_core::audit::{AuditResult, Deed};

use super::App;
use super::auth::Person;
use super::error::ApiError;
use super::guard::{Asks, Rule};
use crate::audit::Note;
use crate::store::TokenKind;

/// What is known of a request before it is answered. Of its address only the parts that are no secrets are.
pub(super) async fn deed(parts: &mut Parts, person: Option<&Person>, from: Option<IpAddr>) -> Deed {
    let path = parts.extensions.get::<MatchedPath>().map(|path| path.as_str().to_owned()).unwrap_or_default();
    let (mut target, mut project) = (Vec::new(), None);
    if let Ok(named) = RawPathParams::from_request_parts(parts, &()).await {
        for (name, value) in &named {
            match name {
                "project" => project = Some(value.to_owned()),
                "lease" | "secret" => {}
                "number" => target.push(format!("#{value}")),
                _ => target.push(value.to_owned()),
            }
        }
    }
    let (who, token) = match person {
        Some(Person { shown, .. }) if shown.kind == TokenKind::Runner => {
            (format!("runner {}", shown.name), Some(shown.id))
        }
        Some(Person { shown, .. }) => (shown.name.clone(), Some(shown.id)),
        None => ("nobody".to_owned(), None),
    };
    let does = super::guard::does(parts.method.as_str(), &path);
    Deed {
        who,
        token,
        from: from.map(|from| from.to_string()),
        action: does.map_or_else(|| format!("ask {}", parts.method), str::to_owned),
        target: if does.is_some() { target.join(" ") } else { path },
        project,
        result: AuditResult::Done,
        words: String::new(),
    }
}

/// What became of it; nothing where it was not understood.
fn result(status: StatusCode) -> Option<AuditResult> {
    match status {
        // Whoever was signed in elsewhere is sent on.
        _ if status.is_success() || status.is_redirection() => Some(AuditResult::Done),
        _ if status.is_server_error() => Some(AuditResult::Failed),
        StatusCode::BAD_REQUEST
        | StatusCode::UNPROCESSABLE_ENTITY
        | StatusCode::UNSUPPORTED_MEDIA_TYPE
        | StatusCode::PAYLOAD_TOO_LARGE => None,
        _ => Some(AuditResult::Refused),
    }
}

/// Notes what became of a request, unless that was stored with what it changed.
pub(super) async fn finish(app: &App, rule: Rule, note: &Note, status: StatusCode, told: Option<ApiError>) {
    let Some(result) = result(status) else { return };
    let is_done = result == AuditResult::Done;
    let Some(mut deed) = note.unless_stored(is_done) else { return };
    if let Some(told) = told.as_ref().map(ApiError::words) {
        deed.words = if deed.words.is_empty() { told.to_owned() } else { format!("{}; {told}", deed.words) };
    }
    deed.result = result;
    if rule.asks == Asks::HookSecret {
        // A hook says nothing but that a repository is to be looked at.
        if is_done {
            return;
        }
        deed.target.clear();
    }
    match result {
        AuditResult::Refused => app.engine.note_refusal(deed).await,
        AuditResult::Done | AuditResult::Failed => app.engine.note_done(deed).await,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_done_and_what_is_refused_is_noted_and_what_makes_no_sense_is_not() {
        for (status, noted) in [
            (200, Some(AuditResult::Done)),
            (204, Some(AuditResult::Done)),
            (303, Some(AuditResult::Done)),
            (400, None),
            (401, Some(AuditResult::Refused)),
            (403, Some(AuditResult::Refused)),
            (404, Some(AuditResult::Refused)),
            (409, Some(AuditResult::Refused)),
            (413, None),
            (422, None),
            (500, Some(AuditResult::Failed)),
        ] {
            assert_eq!(result(StatusCode::from_u16(status).unwrap()), noted, "{status}");
        }
    }
}
