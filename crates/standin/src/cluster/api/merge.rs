//! Changing objects by patches: merge patches (RFC 7386), and strategic ones, which know lists whose
//! items have a key (Kubernetes API, "Strategic Merge Patch").

use serde_json::{Map, Value};

/// The keys of lists, by the list's name.
fn list_key(name: &str, items: &[Value]) -> Option<&'static str> {
    let has = |key: &str| items.iter().any(|item| item.get(key).is_some());
    match name {
        "containers" | "initContainers" | "volumes" | "env" | "imagePullSecrets" => Some("name"),
        "volumeMounts" => Some("mountPath"),
        "conditions" => Some("type"),
        "ownerReferences" => Some("uid"),
        "ports" if has("containerPort") => Some("containerPort"),
        "ports" => Some("port"),
        _ => None,
    }
}

/// Lays a merge patch over an object.
pub(super) fn plain(target: &mut Value, patch: &Value) {
    merge(target, patch, &|_, _| None, "");
}

/// Lays a strategic merge patch, or an applied configuration, over an object.
pub(super) fn strategic(target: &mut Value, patch: &Value) {
    merge(target, patch, &list_key, "");
}

type Keys<'a> = &'a dyn Fn(&str, &[Value]) -> Option<&'static str>;

fn merge(target: &mut Value, patch: &Value, keys: Keys<'_>, name: &str) {
    match (patch, &mut *target) {
        (Value::Object(patch), _) => {
            if !target.is_object() {
                *target = Value::Object(Map::new());
            }
            let Some(target) = target.as_object_mut() else { return };
            for (key, value) in patch.iter().filter(|(key, _)| !key.starts_with('$')) {
                if value.is_null() {
                    target.remove(key);
                } else {
                    merge(target.entry(key.clone()).or_insert(Value::Null), value, keys, key);
                }
            }
        }
        (Value::Array(items), Value::Array(there)) => match keys(name, items) {
            Some(key) => items.iter().for_each(|item| merge_item(there, item, key, keys)),
            None => *target = patch.clone(),
        },
        _ => *target = patch.clone(),
    }
}

fn merge_item(list: &mut Vec<Value>, item: &Value, key: &str, keys: Keys<'_>) {
    let at = list.iter().position(|there| there.get(key) == item.get(key));
    match (at, item.get("$patch").and_then(Value::as_str)) {
        (Some(at), Some("delete")) => {
            list.remove(at);
        }
        (None, Some("delete")) => {}
        (Some(at), _) => merge(&mut list[at], item, keys, ""),
        (None, _) => {
            let mut new = Value::Null;
            merge(&mut new, item, keys, "");
            list.push(new);
        }
    }
}

/// Takes out of an object what a manager applied before and applies no longer (server-side apply,
/// "Merge strategy").
pub(super) fn take_back(target: &mut Value, before: &Value, now: &Value) {
    let (Value::Object(target), Value::Object(before)) = (target, before) else { return };
    for (key, old) in before {
        match (now.get(key), target.get_mut(key)) {
            (None, _) => {
                target.remove(key);
            }
            (Some(now), Some(target)) => take_back_in(target, old, now, key),
            (Some(_), None) => {}
        }
    }
}

fn take_back_in(target: &mut Value, before: &Value, now: &Value, name: &str) {
    let (Value::Array(there), Value::Array(old), Value::Array(new)) = (&mut *target, before, now) else {
        return take_back(target, before, now);
    };
    let Some(key) = list_key(name, old) else { return };
    let same = |one: &Value, other: &Value| one.get(key) == other.get(key);
    for item in old {
        match new.iter().find(|kept| same(kept, item)) {
            None => there.retain(|one| !same(one, item)),
            Some(now) => {
                if let Some(target) = there.iter_mut().find(|one| same(one, item)) {
                    take_back(target, item, now);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn a_strategic_patch_knows_items_by_their_keys() {
        let mut object = json!({ "spec": { "containers": [{ "name": "a", "image": "1", "env": [{ "name": "X", "value": "1" }] }, { "name": "b" }] } });
        strategic(
            &mut object,
            &json!({ "spec": { "$setElementOrder/containers": [{ "name": "a" }], "containers": [
            { "name": "a", "image": "2" }, { "name": "b", "$patch": "delete" }, { "name": "c" }] } }),
        );
        assert_eq!(
            object["spec"]["containers"],
            json!([
            { "name": "a", "image": "2", "env": [{ "name": "X", "value": "1" }] }, { "name": "c" }])
        );
        assert!(object["spec"].get("$setElementOrder/containers").is_none());
    }

    #[test]
    fn what_is_applied_no_longer_is_taken_back_and_what_others_set_stays() {
        let before = json!({ "metadata": { "labels": { "a": "1", "b": "1" } }, "spec": { "containers": [{ "name": "x", "image": "1", "args": ["z"] }] } });
        let now = json!({ "metadata": { "labels": { "a": "1" } }, "spec": { "containers": [{ "name": "x", "image": "1" }] } });
        let mut object = before.clone();
        object["metadata"]["labels"]["other"] = json!("kept");
        take_back(&mut object, &before, &now);
        assert_eq!(
            object,
            json!({ "metadata": { "labels": { "a": "1", "other": "kept" } }, "spec": { "containers": [{ "name": "x", "image": "1" }] } })
        );
    }
}
