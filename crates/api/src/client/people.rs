//! People, their roles, passwords and tokens.

use reqwest::header::{COOKIE, SET_COOKIE};

use super::segment::segment;
use super::{Client, ClientError};
use crate::{
    NewPassword, NewToken, NewUser, RoleChange, RoleList, SignIn, TokenList, TokenMade, UserChange, UserList, UserMade,
    UserView,
};

impl Client {
    /// A token for a program of a person, who shows their name and password.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn token_for_password(
        address: &str,
        name: &str,
        password: &str,
        token: &NewToken,
    ) -> Result<TokenMade, ClientError> {
        let sign_in = SignIn { name: Some(name.to_owned()), password: Some(password.to_owned()), ..SignIn::default() };
        Self::token_by(address, &sign_in, token).await
    }

    /// Signs in, makes a token, and signs out again.
    pub(super) async fn token_by(address: &str, sign_in: &SignIn, token: &NewToken) -> Result<TokenMade, ClientError> {
        let client = Self::new(address, "");
        let wire = &client.wire;
        let session = wire.url("/api/v1/session");
        let signed = wire.send(wire.http.post(&session).json(sign_in)).await?;
        let cookie = signed.headers().get(SET_COOKIE).and_then(|cookie| cookie.to_str().ok()).unwrap_or_default();
        let cookie = cookie.split(';').next().unwrap_or_default().to_owned();
        let tokens = wire.url("/api/v1/tokens");
        let made = wire.json(wire.http.post(tokens).header(COOKIE, &cookie).json(token)).await?;
        wire.send(wire.http.delete(session).header(COOKIE, cookie)).await?;
        Ok(made)
    }

    /// All people.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn users(&self) -> Result<UserList, ClientError> {
        self.get("/api/v1/users").await
    }

    /// Makes a person known, with a first token.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn add_user(&self, new: &NewUser) -> Result<UserMade, ClientError> {
        self.wire.json(self.wire.http.post(self.wire.url("/api/v1/users")).json(new)).await
    }

    /// Says which teams a person is of.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn change_user(&self, name: &str, change: &UserChange) -> Result<UserView, ClientError> {
        self.wire
            .json(
                self.wire
                    .http
                    .patch(self.wire.url(&format!("/api/v1/users/{name}", name = segment(name))))
                    .json(change),
            )
            .await
    }

    /// Sets a person's password; removes it, where there is none.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn set_password(&self, name: &str, password: Option<String>) -> Result<(), ClientError> {
        let url = self.wire.url(&format!("/api/v1/users/{name}/password", name = segment(name)));
        let request = match password {
            Some(password) => self.wire.http.put(url).json(&NewPassword { password }),
            None => self.wire.http.delete(url),
        };
        self.wire.send(request).await.map(|_| ())
    }

    /// Forgets a person, with their roles and tokens.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn remove_user(&self, name: &str) -> Result<(), ClientError> {
        self.wire
            .send(self.wire.http.delete(self.wire.url(&format!("/api/v1/users/{name}", name = segment(name)))))
            .await
            .map(|_| ())
    }

    /// All roles that were given.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn roles(&self) -> Result<RoleList, ClientError> {
        self.get("/api/v1/roles").await
    }

    /// Gives a role.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn give_role(&self, change: &RoleChange) -> Result<(), ClientError> {
        self.wire.send(self.wire.http.put(self.wire.url("/api/v1/roles")).json(change)).await.map(|_| ())
    }

    /// Takes a role.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn take_role(&self, change: &RoleChange) -> Result<(), ClientError> {
        self.wire.send(self.wire.http.post(self.wire.url("/api/v1/roles/take")).json(change)).await.map(|_| ())
    }

    /// The own tokens; everybody's, where one administers the server.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn tokens(&self) -> Result<TokenList, ClientError> {
        self.get("/api/v1/tokens").await
    }

    /// Makes a token.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn add_token(&self, new: &NewToken) -> Result<TokenMade, ClientError> {
        self.wire.json(self.wire.http.post(self.wire.url("/api/v1/tokens")).json(new)).await
    }

    /// Makes a token in the place of another, which stays good for an hour.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn rotate_token(&self, id: i64) -> Result<TokenMade, ClientError> {
        self.wire.json(self.wire.http.post(self.wire.url(&format!("/api/v1/tokens/{id}/rotate")))).await
    }

    /// Removes a token.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn remove_token(&self, id: i64) -> Result<(), ClientError> {
        self.wire.send(self.wire.http.delete(self.wire.url(&format!("/api/v1/tokens/{id}")))).await.map(|_| ())
    }
}
