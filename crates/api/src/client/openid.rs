//! The provider that people are signed in by.

use super::segment::segment;
use super::{Client, ClientError};
use crate::{NewToken, OpenIdChange, OpenIdSubject, OpenIdView, SignIn, TokenMade};

impl Client {
    /// The provider of OpenID Connect.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn openid(&self) -> Result<OpenIdView, ClientError> {
        self.get("/api/v1/openid").await
    }

    /// Sets it.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn set_openid(&self, change: &OpenIdChange) -> Result<OpenIdView, ClientError> {
        self.wire.json(self.wire.http.put(self.wire.url("/api/v1/openid")).json(change)).await
    }

    /// Has it sign nobody in any more.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn remove_openid(&self) -> Result<(), ClientError> {
        self.wire.send(self.wire.http.delete(self.wire.url("/api/v1/openid"))).await.map(drop)
    }

    /// Says who a person is there.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn link_user(&self, name: &str, subject: &str) -> Result<(), ClientError> {
        let path = self.wire.url(&format!("/api/v1/users/{name}/openid", name = segment(name)));
        let subject = OpenIdSubject { subject: subject.to_owned() };
        self.wire.send(self.wire.http.put(path).json(&subject)).await.map(drop)
    }

    /// A token for a program of a person whom the provider has just signed in: `code` was sent to the program, which had
    /// shown the digest of `verifier` before.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn token_for_code(
        address: &str,
        code: &str,
        verifier: &str,
        token: &NewToken,
    ) -> Result<TokenMade, ClientError> {
        let sign_in = SignIn { code: Some(code.to_owned()), verifier: Some(verifier.to_owned()), ..SignIn::default() };
        Self::token_by(address, &sign_in, token).await
    }
}
