//! `pondrix login`

use std::net::Ipv4Addr;
use std::process::ExitCode;

use base64::Engine as _;
use base64::prelude::BASE64_URL_SAFE_NO_PAD;
use clap::Args;
use pondrix_api::{Client, NewToken};
use sha2::{Digest, Sha256};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::TcpListener;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::settings::{self, Saved};
use crate::{output, prompt};

/// Save a server's address and a token for the other commands.
///
/// The token is read from standard input, where a terminal does not show it, or taken from
/// PONDRIX_TOKEN. With --user, a name and a password are shown instead, and with --openid a browser signs in; a token is
/// made for this machine then.
#[derive(Debug, Args)]
pub(crate) struct Login {
    /// The server's address; the one of --url by default.
    #[arg(value_name = "ADDRESS")]
    address: Option<String>,
    /// Show this person's password, which is asked for, or read from standard input.
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
    /// Sign in with a browser on this machine, by the provider that the server has (pondrix openid).
    #[arg(long, conflicts_with = "user")]
    openid: bool,
    /// For how many days the token is good that is made then.
    #[arg(long, value_name = "COUNT", default_value_t = 90)]
    days: u32,
}

/// What the token of this machine is called: `cli-` and its name, as far as a label may have it.
fn label() -> String {
    let host = rustix::system::uname().nodename().to_string_lossy().to_lowercase();
    let host: String = host.chars().take_while(|letter| *letter != '.').filter(char::is_ascii_alphanumeric).collect();
    if host.is_empty() { "cli".to_owned() } else { format!("cli-{}", &host[..host.len().min(40)]) }
}

/// What the browser shows when it comes back.
const SEEN: &str = "HTTP/1.1 200 OK\r\ncontent-type: text/plain; charset=utf-8\r\nconnection: close\r\n\r\n\
                    You are signed in; go back to where you called pondrix login.\n";
/// The longest beginning of a request that is looked at, in bytes.
const LONGEST_REQUEST: u64 = 8 * 1024;

/// Has a browser on this machine sign in, and waits for the code that it brings (RFC 8252, section 7.3): answers that,
/// and what proves that it was asked for here (RFC 7636).
async fn code_by_browser(url: &str) -> Result<(String, String), Failure> {
    let mut bytes = [0; 32];
    getrandom::fill(&mut bytes).map_err(|error| Failure::new(error.to_string()))?;
    let verifier = BASE64_URL_SAFE_NO_PAD.encode(bytes);
    let challenge = BASE64_URL_SAFE_NO_PAD.encode(Sha256::digest(&verifier));
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
    let port = listener.local_addr()?.port();
    // On the terminal, also where the rest is for a program.
    eprintln!(
        "Open this address in a browser on this machine:\n  {url}/sign-in/openid?program={port}&challenge={challenge}"
    );
    loop {
        let (mut stream, _) = listener.accept().await?;
        let mut line = String::new();
        let read = BufReader::new((&mut stream).take(LONGEST_REQUEST)).read_line(&mut line).await;
        // Browsers ask for other things, too.
        let code = line.strip_prefix("GET /?code=").and_then(|rest| rest.split([' ', '&']).next());
        let Some(code) = code.filter(|code| read.is_ok() && !code.is_empty()) else { continue };
        drop(stream.write_all(SEEN.as_bytes()).await);
        drop(stream.shutdown().await);
        return Ok((code.to_owned(), verifier));
    }
}

impl Login {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let url = self.address.or_else(|| global.url.clone());
        let url = url.ok_or_else(|| Failure::usage("no address is given: pondrix login http://HOST:PORT"))?;
        let url = url.trim_end_matches('/').to_owned();
        let new = NewToken { label: label(), days: Some(self.days), ..NewToken::default() };
        let token = match (&self.user, &global.token) {
            (Some(user), _) => {
                let password = prompt::hidden_or_input(&format!("password of {user}: "))?;
                Client::token_for_password(&url, user, &password, &new).await?.token
            }
            (None, _) if self.openid => {
                let (code, verifier) = code_by_browser(&url).await?;
                Client::token_for_code(&url, &code, &verifier, &new).await?.token
            }
            (None, Some(token)) => token.clone(),
            (None, None) => prompt::hidden("token: ")?,
        };
        let identity = Client::new(&url, &token).whoami().await?;
        let path = settings::save(&Saved { url: url.clone(), token })?;
        if global.json {
            output::json(&identity)?;
        } else {
            output::line(&format!("Signed in at {url} as {}; saved in {}", identity.name, path.display()));
        }
        Ok(ExitCode::SUCCESS)
    }
}
