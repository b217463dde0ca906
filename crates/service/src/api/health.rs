//! Whether the service is there.

use axum::Json;
use serde_json::{Value, json};

/// Answers when the service does.
#[utoipa::path(get, path = "/health", tag = "service", responses((status = 200, description = "The service is there")))]
pub(super) async fn health() -> Json<Value> {
    Json(json!({ "status": "ok", "version": env!("CARGO_PKG_VERSION") }))
}
