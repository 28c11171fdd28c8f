//! A storefront may call our branches something else: its names go out, ours come back.

use lantern_core::digest::Digest;
use lantern_core::names::{Handle, Name};
use serde::de::DeserializeOwned;
use serde_json::Value;

use super::HttpStorefront;
use crate::StorefrontError;

impl HttpStorefront {
    /// What the storefront calls a branch, as a part of an address.
    pub(super) fn branch_in_path(&self, branch: &Name) -> String {
        self.opening.branches.get(branch).map_or_else(|| branch.to_string(), Handle::in_path)
    }

    pub(super) fn json<T: DeserializeOwned>(&self, bytes: &[u8], what: &'static str) -> Result<T, StorefrontError> {
        let mut value: Value = serde_json::from_slice(bytes).map_err(|e| self.nonsense(what, e))?;
        self.name_branches(&mut value);
        serde_json::from_value(value).map_err(|e| self.nonsense(what, e))
    }

    /// Puts our names of branches where the storefront's stand.
    fn name_branches(&self, value: &mut Value) {
        match value {
            Value::Array(items) => items.iter_mut().for_each(|item| self.name_branches(item)),
            Value::Object(fields) => {
                if let Some(fixed) = fields.get_mut("fixed").and_then(Value::as_array_mut) {
                    fixed.iter_mut().filter_map(|rule| rule.get_mut("name")).for_each(|name| self.name_branch(name));
                }
                for (key, field) in fields {
                    if key == "branch" && field.is_string() {
                        self.name_branch(field);
                    } else {
                        self.name_branches(field);
                    }
                }
            }
            _ => {}
        }
    }

    fn name_branch(&self, name: &mut Value) {
        let Some(theirs) = name.as_str() else { return };
        let ours =
            self.opening.branches.iter().find(|(_, known)| known.as_str() == theirs).map(|(ours, _)| ours.to_string());
        let is_name = theirs.parse::<Name>().is_ok();
        // One that nobody gave a name here gets one that is like theirs.
        *name = ours.unwrap_or_else(|| if is_name { theirs.to_owned() } else { like(theirs) }).into();
    }
}

/// A name of ours that is like one of theirs.
fn like(theirs: &str) -> String {
    let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit();
    let text: String = theirs.to_lowercase().chars().map(|c| if fits(c) { c } else { '-' }).take(64).collect();
    let text = text.trim_matches('-');
    if text.is_empty() { format!("branch-{}", Digest::of(theirs.as_bytes()).short()) } else { text.to_owned() }
}
