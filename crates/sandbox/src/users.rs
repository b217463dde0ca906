//! Users and groups by the image's own files (passwd(5), group(5)).

use crate::error::UserError;

/// The ids of a `USER[:GROUP]`, given the texts of `/etc/passwd` and `/etc/group`, and the user's
/// home folder where the file tells it.
///
/// # Errors
/// When a name is in neither file.
pub fn look_up(user: &str, passwd: &str, group: &str) -> Result<(u32, u32, Option<String>), UserError> {
    let (user, wanted_group) = user.split_once(':').map_or((user, None), |(user, group)| (user, Some(group)));
    let user = if user.is_empty() { "0" } else { user };
    let entry = passwd
        .lines()
        .map(|line| line.split(':').collect::<Vec<_>>())
        .find(|fields| fields.len() >= 6 && (fields[0] == user || (user.parse::<u32>().is_ok() && fields[2] == user)));
    let id = match (&entry, user.parse()) {
        (Some(fields), _) => fields[2].parse().map_err(|_| UserError::NoId(user.to_owned()))?,
        (None, Ok(id)) => id,
        (None, Err(_)) => return Err(UserError::NoUser(user.to_owned())),
    };
    let group_id = match wanted_group {
        None => entry.as_ref().and_then(|fields| fields[3].parse().ok()).unwrap_or(0),
        Some(name) => {
            let line =
                group.lines().map(|line| line.split(':').collect::<Vec<_>>()).find(|f| f.len() >= 3 && f[0] == name);
            match (line.and_then(|fields| fields[2].parse().ok()), name.parse()) {
                (Some(id), _) | (None, Ok(id)) => id,
                (None, Err(_)) => return Err(UserError::NoGroup(name.to_owned())),
            }
        }
    };
    Ok((id, group_id, entry.map(|fields| fields[5].to_owned())))
}

#[cfg(test)]
mod tests {
    use super::*;

    const PASSWD: &str = "root:x:0:0:root:/root:/bin/sh\nweb:x:33:34:web:/srv:/bin/false\n";
    const GROUP: &str = "root:x:0:\npond:x:77:\n";

    #[test]
    fn names_and_numbers_are_found_in_the_images_own_files() {
        let ids = |user| look_up(user, PASSWD, GROUP);
        assert_eq!(ids(""), Ok((0, 0, Some("/root".into()))));
        assert_eq!(ids("web"), Ok((33, 34, Some("/srv".into()))));
        assert_eq!(ids("33:pond"), Ok((33, 77, Some("/srv".into()))));
        assert_eq!(ids("1000:1001"), Ok((1000, 1001, None)));
        assert!(ids("nobody").unwrap_err().to_string().contains("no user `nobody`"));
        assert!(ids("web:nobody").unwrap_err().to_string().contains("no group `nobody`"));
    }
}
