//! Whether the server is there.

use axum::Json;
use serde_json::{Value, json};

/// Answers when the server does.
#[utoipa::path(get, path = "/health", tag = "server", responses((status = 200, description = "The server is there")))]
pub(super) async fn health() -> Json<Value> {
    Json(json!({ "status": "ok", "version": env!("CARGO_PKG_VERSION") }))
}
