//! HTTP clients: which certificates they accept, and the words of their errors.

use std::sync::atomic::{AtomicBool, Ordering};

use reqwest::{Client, ClientBuilder};

/// Whether a client was made on a machine without certificates of authorities.
static HAS_NO_AUTHORITIES: AtomicBool = AtomicBool::new(false);

/// Makes a client that accepts the certificates that this machine accepts. If the machine has no certificates of
/// authorities (as in an empty root file system), the client is made, and connects only without TLS.
///
/// `configure` sets the options. It may be called twice.
///
/// # Errors
/// If the options are invalid.
pub fn client(configure: impl Fn(ClientBuilder) -> ClientBuilder) -> reqwest::Result<Client> {
    // An error says that there is a provider already. It is the same one.
    let _ = rustls::crypto::ring::default_provider().install_default();
    configure(Client::builder()).build().or_else(|error| {
        let client = configure(Client::builder().tls_certs_only([])).build().map_err(|_| error)?;
        HAS_NO_AUTHORITIES.store(true, Ordering::Relaxed);
        Ok(client)
    })
}

/// The innermost cause of an error. The outer words are the address, which people know.
#[must_use]
pub fn innermost(error: &reqwest::Error) -> String {
    let mut cause: &dyn std::error::Error = error;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    let words = cause.to_string();
    if words.contains("UnknownIssuer") && HAS_NO_AUTHORITIES.load(Ordering::Relaxed) {
        return format!(
            "{words} (this machine has no certificates of authorities: install the package `ca-certificates`, or name a file in SSL_CERT_FILE)"
        );
    }
    words
}
