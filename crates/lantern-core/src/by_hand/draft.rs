//! A file of rules to begin with, from a few answers.

use super::HandForm;

/// What someone says of a storefront.
#[derive(Debug, Clone)]
pub struct Draft {
    /// For people.
    pub name: String,
    /// Where people open it.
    pub address: Option<String>,
    /// What is handed over.
    pub form: HandForm,
    /// Whether everything lies in one folder on top.
    pub has_top: bool,
    /// Whether the storefront gives a number back.
    pub gives_number: bool,
    /// Whether the old file has to go before the new one may come.
    pub one_at_a_time: bool,
    /// Whether they have to answer before players have it.
    pub waits: bool,
    /// How long that usually takes.
    pub usual_wait: Option<String>,
}

/// A text in quotes, as TOML reads it: as JSON has it, but for one character that TOML wants escaped, too.
fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string().replace('\u{7f}', "\\u007f")
}

impl Draft {
    /// Returns the commented file.
    pub fn text(&self) -> String {
        let in_comment: String = self.name.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
        let mut out = format!("# What {in_comment} wants, and what a person does there. All keys: docs/by-hand.md\n\n");
        out += &format!("name = {}\n", quoted(&self.name));
        match &self.address {
            Some(address) => out += &format!("address = {}\n", quoted(address)),
            None => out += "# address = \"https://…\"           # where people open it\n",
        }
        match &self.usual_wait {
            Some(wait) => {
                let wait = quoted(wait);
                out += &format!("usual-wait = {wait}                # shown while waiting; overdue after it\n");
            }
            None => out += "# usual-wait = \"6 days\"         # shown while waiting; overdue after it\n",
        }
        if self.one_at_a_time {
            out += "one-at-a-time = true            # the old file has to go before the new one may come\n";
        }
        let (form, ending) = match self.form {
            HandForm::Folder => ("folder", ""),
            HandForm::Zip => ("zip", ".zip"),
            HandForm::TarGz => ("tar.gz", ".tar.gz"),
            HandForm::Package => ("package", ".apk"),
        };
        out += &format!(
            "\n# What is handed over of each target; [hand-over.NAME] for one of them.\n[hand-over.\"*\"]\nform = \"{form}\"\n\
             name = \"{{game.name}} {{release.version}} {{target}}{ending}\"\n"
        );
        if self.has_top && self.form != HandForm::Package {
            out += "top = \"{game.name}\"               # one folder on top of everything in it\n";
        }
        if self.one_at_a_time {
            out += "\n[[steps.push]]\nid = \"remove\"\ntext = \"Remove the old files.\"\n";
            out += "open = \"{storefront.address}\"\nremoves-old = true              # players have nothing from here on\n";
        }
        out += "\n[[steps.push]]\nid = \"upload\"\ntext = \"Upload the files.\"\nopen = \"{storefront.address}\"\nfiles = true\n";
        out += "paste = [{ field = \"what is new\", text = \"{notes.en}\" }]\ntakes = \"20 minutes\"\n";
        if self.one_at_a_time {
            out += "brings-new = true\n";
        }
        if self.gives_number {
            out +=
                "read-back = [{ key = \"number-there\", ask = \"The number that it has there\", form = \"digits\" }]\n";
        }
        out += "\n[[steps.promote]]\nid = \"release\"\ntext = \"Put {release.version} on {branch}.\"\nopen = \"{storefront.address}\"\n";
        if self.waits {
            out += "waits = true                    # done when they have answered\n";
        }
        out += "\n[[steps.rollback]]\nid = \"put-back\"\ntext = \"Put {release.version} back on {branch}.\"\n";
        out += "open = \"{storefront.address}\"\n";
        out += "\n[[steps.withdraw]]\nid = \"take-away\"\ntext = \"Take {release.version} away: {because}\"\n";
        out += "open = \"{storefront.address}\"\n";
        out
    }
}
