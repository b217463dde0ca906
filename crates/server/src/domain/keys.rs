//! The keys that secrets are sealed with: finding them at the start, making them, and another master key.

use std::fs::File;
use std::path::{Path, PathBuf};

use anyhow::Context;
use pondrix_api::KeysView;
use pondrix_core::{ProjectName, Time};
use tracing::{info, warn};

use super::{Engine, EngineError};
use crate::access;
use crate::audit;
use crate::off_thread::off_thread;
use crate::seal::{KeyOwner, MasterKey, MasterSource, NewKey, Seal, WrappedKey, next_file, unseal_of_before};
use crate::store::{self, Store, StoreError};

/// Where the keys come from that the records do not have.
#[derive(Clone, Debug)]
pub struct KeySources {
    /// The master key.
    pub master: MasterSource,
    /// The one before it, where the records know only that.
    pub former: Option<MasterSource>,
    /// Goes on where the master key is lost; with it are all secrets.
    pub lose_secrets: bool,
}

/// Puts a file in the place of another one; that it is there survives the end of the machine.
fn replace(file: &Path, by: &Path) -> std::io::Result<()> {
    std::fs::rename(by, file)?;
    let folder = file.parent().filter(|folder| *folder != Path::new("")).unwrap_or(Path::new("."));
    File::open(folder)?.sync_all()
}

/// The master key. One in a file is made where it is not there and nothing is sealed with it; and where a server ended
/// while it put another one in its place, that is brought to its end, or undone, as the records have it.
fn master_key(sources: &KeySources, rows: &[WrappedKey]) -> anyhow::Result<MasterKey> {
    if let MasterSource::File(file) = &sources.master {
        let next = next_file(file);
        if next.exists() {
            let key = MasterSource::File(next.clone()).read();
            match key.ok().filter(|key| rows.iter().any(|row| row.wrapped_by == key.id())) {
                Some(_) => replace(file, &next),
                None => std::fs::remove_file(&next),
            }
            .with_context(|| next.display().to_string())?;
        }
        if !file.exists() && (rows.is_empty() || sources.lose_secrets) {
            MasterKey::random()?
                .write(&next)
                .and_then(|()| replace(file, &next))
                .with_context(|| format!("{} cannot be made, the file of the master key", file.display()))?;
        }
    }
    let lost = "put it back, or say where it is: --master-key. What is sealed with one that is lost has to be set anew: \
                --lose-secrets goes on without it";
    let fault = match sources.master.read() {
        Ok(key) => return Ok(key),
        Err(fault) => anyhow::Error::from(fault),
    };
    Err(if rows.is_empty() { fault } else { fault.context(lost) })
}

/// What seals and opens, as the records and the master key have it.
///
/// # Errors
/// When there is no master key, or it is another one than theirs.
pub(crate) async fn unlock(store: &Store, sources: &KeySources, now: Time) -> anyhow::Result<Seal> {
    let rows = store.read(store::data_keys).await?;
    let known = rows.clone();
    let from = sources.clone();
    let master = off_thread(move || master_key(&from, &known)).await?;
    if rows.is_empty() {
        return first(store, Seal::open(master.clone(), &[])?, master, sources, now).await;
    }
    let other = match Seal::open(master.clone(), &rows) {
        Ok(seal) => return Ok(seal.with_source(&sources.master)),
        Err(other) => other,
    };
    if let Some(former) = sources.former.clone() {
        let former = off_thread(move || former.read()).await?;
        let seal = Seal::open(former, &rows).context("the former master key is none of these secrets either")?;
        let (rewrapped, before) = (seal.rewrapped(&master)?, seal.master_id());
        store.write(move |c| store::rewrap(c, &rewrapped, now)).await?;
        info!(before, now = master.id(), "the data keys are wrapped with another master key");
        seal.take_master(master);
        return Ok(seal.with_source(&sources.master));
    }
    if sources.lose_secrets {
        warn!(lost = other.wanted, "the master key is lost, and with it every secret that is not set anew");
        store.write(|c| store::remove_data_keys(c, None)).await?;
        return first(store, Seal::open(master.clone(), &[])?, master, sources, now).await;
    }
    Err(other).context(
        "give that one (--master-key), or both, to have the secrets under the new one (--former-master-key). Without \
         it they are lost: --lose-secrets goes on without them",
    )
}

/// The first data key of records that have none. What a server of before has sealed with the master key itself, and what
/// it did not seal, is sealed with data keys from here on.
async fn first(store: &Store, seal: Seal, master: MasterKey, sources: &KeySources, now: Time) -> anyhow::Result<Seal> {
    let seal = seal.with_source(&sources.master);
    let sealing = seal.clone();
    let upgrade = move |c: &rusqlite::Connection| {
        let must = |owner: KeyOwner| match sealing.has_key(owner) {
            true => Ok(()),
            false => make_key(c, &sealing, owner, now),
        };
        must(KeyOwner::Server)?;
        for value in store::all_sealed(c)? {
            let plain = match unseal_of_before(&master, &value.place, &value.value) {
                Ok(plain) => plain,
                Err(_) if value.is_hook() => {
                    warn!(of = value.place, "the secret of a hook is lost; it has another one now");
                    access::new_secret().map_err(|error| StoreError::Unsealed(error.to_string()))?.into_bytes()
                }
                // What this master key never opened stays closed.
                Err(_) => continue,
            };
            must(value.owner)?;
            value.replace(c, &seal_or(&sealing, value.owner, &value.place, &plain)?)?;
        }
        for (id, name, text) in store::open_hooks(c)? {
            must(KeyOwner::Project(id))?;
            let sealed = seal_or(&sealing, KeyOwner::Project(id), &hook_place(&name), text.as_bytes())?;
            store::put_hook(c, id, &sealed)?;
        }
        Ok(())
    };
    store.write(upgrade).await?;
    Ok(seal)
}

fn seal_or(seal: &Seal, owner: KeyOwner, place: &str, value: &[u8]) -> Result<Vec<u8>, StoreError> {
    seal.seal(owner, place, value).map_err(|error| StoreError::Unsealed(error.to_string()))
}

/// Makes a data key in a write, which is to be stored: what is not is known all the same, and seals nothing.
fn make_key(records: &rusqlite::Connection, seal: &Seal, owner: KeyOwner, now: Time) -> Result<(), StoreError> {
    let (new, row) = seal.new_key(owner).map_err(|error| StoreError::Unsealed(error.to_string()))?;
    let id = store::put_data_key(records, &row, now)?;
    seal.learn(id, new);
    Ok(())
}

/// Adds a project, with a data key and a secret for its hook. The key is to be learnt once this is stored.
pub(super) fn add_project(
    records: &rusqlite::Connection,
    seal: &Seal,
    name: &ProjectName,
    (repository, is_trusted): (&str, bool),
    hook_secret: &str,
    credential: Option<&[u8]>,
    now: Time,
) -> Result<(store::Project, (u32, NewKey)), StoreError> {
    let mut project = store::add_project(records, name, repository, is_trusted, now)?;
    let unsealed = |error: anyhow::Error| StoreError::Unsealed(error.to_string());
    let (new, row) = seal.new_key(KeyOwner::Project(project.id)).map_err(unsealed)?;
    let id = store::put_data_key(records, &row, now)?;
    let hook = new.seal(id, &hook_place(name.as_str()), hook_secret.as_bytes()).map_err(unsealed)?;
    store::put_hook(records, project.id, &hook)?;
    project.hook = Some(hook);
    if let Some(credential) = credential {
        let sealed = new.seal(id, &credential_place(name.as_str()), credential).map_err(unsealed)?;
        store::put_credential(records, project.id, Some(&sealed))?;
        project.credential = Some(sealed);
    }
    Ok((project, (id, new)))
}

/// What the secret of a project's hook is sealed for.
fn hook_place(project: &str) -> String {
    format!("hook {project}")
}

/// What signs in at a project's repository is sealed for this.
pub(super) fn credential_place(project: &str) -> String {
    format!("repository {project}")
}

impl Engine {
    /// Seals a value with its owner's data key, which is made where there is none.
    pub(crate) async fn sealed(&self, owner: KeyOwner, place: &str, value: &[u8]) -> Result<Vec<u8>, EngineError> {
        if !self.seal.has_key(owner) {
            let _turn = self.seal.turn().await;
            // Whoever had the turn before may have made it.
            if !self.seal.has_key(owner) {
                let (new, row) = self.seal.new_key(owner)?;
                let now = self.clock.now();
                let id = self.store.write(move |c| store::put_data_key(c, &row, now)).await?;
                self.seal.learn(id, new);
            }
        }
        Ok(self.seal.seal(owner, place, value)?)
    }

    /// The secret of a project's hook; nothing where there is none, or none that can be opened.
    pub(crate) fn hook_secret(&self, project: &store::Project) -> Option<String> {
        let place = hook_place(project.name.as_str());
        let opened = self.seal.unseal_text(&place, project.hook.as_ref()?);
        opened.inspect_err(|error| warn!(project = %project.name, %error, "a hook's secret is lost")).ok()
    }

    /// The keys that secrets are sealed with, without themselves.
    pub(crate) async fn keys(&self) -> Result<KeysView, EngineError> {
        let (since, data_keys) = self.store.read(store::wrapped_since).await?;
        let from = self.seal.source().to_string();
        let identity_keys = self.identity_keys().await?.keys.into_iter().filter_map(|key| key.kid).collect();
        Ok(KeysView { master: self.seal.master_id(), from, since, data_keys, identity_keys })
    }

    /// Makes another master key, and wraps the data keys with it. The one before opens nothing any more, but what is in
    /// backups.
    pub(crate) async fn rotate_master(&self) -> Result<KeysView, EngineError> {
        let MasterSource::File(file) = self.seal.source() else {
            let words = format!(
                "the master key comes from {}: have that give another, and start the server with --former-master-key \
                 for the one that it gave before",
                self.seal.source()
            );
            return Err(EngineError::Conflict(words));
        };
        let _turn = self.seal.turn().await;
        let (next, before) = (MasterKey::random()?, self.seal.master_id());
        audit::about(next.id());
        audit::words(format!("in place of {before}"));
        let waiting: PathBuf = next_file(&file);
        let (made, at) = (next.clone(), waiting.clone());
        off_thread(move || made.write(&at)).await.map_err(anyhow::Error::from)?;
        let (rows, now) = (self.seal.rewrapped(&next)?, self.clock.now());
        let stored = self.store.write_noted(now, move |c| store::rewrap(c, &rows, now)).await;
        if let Err(error) = stored {
            // Nobody may know whether it was stored: the records do.
            let rows = self.store.read(store::data_keys).await?;
            if !rows.iter().any(|row| row.wrapped_by == next.id()) {
                drop(std::fs::remove_file(&waiting));
                return Err(error.into());
            }
        }
        self.seal.take_master(next);
        off_thread(move || replace(&file, &waiting)).await.map_err(anyhow::Error::from)?;
        self.keys().await
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::seal::seal_of_before;

    struct Place {
        folder: tempfile::TempDir,
    }

    impl Place {
        fn file(&self) -> PathBuf {
            self.folder.path().join("secrets.key")
        }

        fn store(&self) -> Store {
            Store::open(&self.folder.path().join("records.db")).unwrap()
        }

        async fn unlock(&self) -> anyhow::Result<Seal> {
            self.unlock_with(None, false).await
        }

        async fn unlock_with(&self, former: Option<&Path>, lose_secrets: bool) -> anyhow::Result<Seal> {
            let former = former.map(|file| MasterSource::File(file.to_owned()));
            let sources = KeySources { master: MasterSource::File(self.file()), former, lose_secrets };
            unlock(&self.store(), &sources, Time::from_millis(7)).await
        }
    }

    const VALUE: &[u8] = b"s3cret";

    fn sealed(seal: &Seal) -> Vec<u8> {
        seal.seal(KeyOwner::Server, "registry pond", VALUE).unwrap()
    }

    /// A rotation that ends where `until` says: with the next key written, with the records changed, or whole.
    async fn rotate(place: &Place, seal: &Seal, until: usize) {
        let next = MasterKey::random().unwrap();
        next.write(&next_file(&place.file())).unwrap();
        if until > 0 {
            let rows = seal.rewrapped(&next).unwrap();
            place.store().write(move |c| store::rewrap(c, &rows, Time::from_millis(8))).await.unwrap();
        }
        if until > 1 {
            replace(&place.file(), &next_file(&place.file())).unwrap();
        }
    }

    #[tokio::test]
    async fn a_change_of_the_master_key_that_ends_half_way_loses_nothing_wherever_it_does() {
        let place = Place { folder: tempfile::tempdir().unwrap() };
        let value = sealed(&place.unlock().await.unwrap());
        for until in [0, 1, 2, 1, 0, 2] {
            let seal = place.unlock().await.unwrap();
            let before = seal.master_id();
            rotate(&place, &seal, until).await;
            let seal = place.unlock().await.unwrap();
            assert_eq!(seal.unseal("registry pond", &value).unwrap(), VALUE, "{until}");
            assert_eq!(seal.master_id() == before, until == 0, "{until}");
            assert!(!next_file(&place.file()).exists());
        }
        // One that was cut off while it was written.
        std::fs::write(next_file(&place.file()), b"half").unwrap();
        assert_eq!(place.unlock().await.unwrap().unseal("registry pond", &value).unwrap(), VALUE);
    }

    #[tokio::test]
    async fn a_master_key_that_is_another_is_refused_unless_the_former_is_given_or_the_secrets_given_up() {
        let place = Place { folder: tempfile::tempdir().unwrap() };
        let value = sealed(&place.unlock().await.unwrap());
        let former = place.folder.path().join("former.key");
        std::fs::rename(place.file(), &former).unwrap();
        let told = |error: anyhow::Error| format!("{error:#}");
        let missing = told(place.unlock().await.unwrap_err());
        assert!(missing.contains("No such file") && missing.contains("--lose-secrets"), "{missing}");
        assert!(!place.file().exists(), "none is made in its place");
        MasterKey::random().unwrap().write(&place.file()).unwrap();
        let other = told(place.unlock().await.unwrap_err());
        assert!(other.contains("--former-master-key") && other.contains("are sealed under the master key"), "{other}");
        let seal = place.unlock_with(Some(&former), false).await.unwrap();
        assert_eq!(seal.unseal("registry pond", &value).unwrap(), VALUE);
        assert_eq!(place.unlock().await.unwrap().unseal("registry pond", &value).unwrap(), VALUE, "and from now on");
        std::fs::remove_file(place.file()).unwrap();
        let seal = place.unlock_with(None, true).await.unwrap();
        assert!(seal.unseal("registry pond", &value).is_err());
        let anew = sealed(&seal);
        assert_ne!(anew[..5], value[..5], "its number is no other key's");
        assert_eq!(place.unlock().await.unwrap().unseal("registry pond", &anew).unwrap(), VALUE);
    }

    #[tokio::test]
    async fn what_a_server_of_before_sealed_or_did_not_seal_is_sealed_with_data_keys() {
        let place = Place { folder: tempfile::tempdir().unwrap() };
        let master = MasterKey::random().unwrap();
        master.write(&place.file()).unwrap();
        let (good, lost) = (
            seal_of_before(&master, "desk/KEY", VALUE),
            seal_of_before(&MasterKey::random().unwrap(), "desk/LOST", VALUE),
        );
        let kept = lost.clone();
        let plant = move |c: &rusqlite::Connection| {
            let project = store::add_project(c, &"desk".parse().unwrap(), "x", true, Time::from_millis(1))?;
            c.execute("UPDATE projects SET hook_secret = 'of-the-heron'", [])?;
            for (name, value) in [("KEY", &good), ("LOST", &lost)] {
                let insert =
                    "INSERT INTO secrets (project, name, sealed, set_at, set_by) VALUES (?1, ?2, ?3, 1, 'ines')";
                c.execute(insert, rusqlite::params![project.id, name, value])?;
            }
            Ok(())
        };
        place.store().write(plant).await.unwrap();
        let seal = place.unlock().await.unwrap();
        let all = place.store().read(store::all_sealed).await.unwrap();
        let opened: Vec<_> =
            all.iter().map(|one| (one.place.as_str(), seal.unseal_text(&one.place, &one.value).ok())).collect();
        let text = |text: &str| Some(text.to_owned());
        assert_eq!(opened, [("desk/KEY", text("s3cret")), ("desk/LOST", None), ("hook desk", text("of-the-heron"))]);
        assert_eq!(all[1].value, kept, "what nobody can open is left as it is");
        let hooks = place.store().read(store::open_hooks).await.unwrap();
        assert!(hooks.is_empty(), "{hooks:?}");
        let again = place.unlock().await.unwrap();
        assert_eq!(again.unseal("desk/KEY", &all[0].value).unwrap(), VALUE);
    }
}
