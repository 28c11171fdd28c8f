//! What a studio writes into `lantern.toml` about the example exports.

/// The depots of the three desktops and of the voices that they share.
pub const DESKTOP_DEPOTS: &str = r#"[depots.windows]
from = "windows"
leave-out = ["voices/**"]

[depots.macos]
from = "macos"
leave-out = ["voices/**"]

[depots.linux]
from = "linux"
leave-out = ["voices/**"]

[choices.voices]
default = "by-language"  # of the player's system

[depots.voices-en]
from = ["windows", "macos", "linux"]  # the same files in each
only = ["voices/en/**"]

[depots.voices-fr]
from = ["windows", "macos", "linux"]
only = ["voices/fr/**"]
choice = { voices = "fr" }

[depots.voices-ja]
from = ["windows", "macos", "linux"]
only = ["voices/ja/**"]
choice = { voices = "ja" }
"#;

/// The stand-in storefront, with the desktops' depots and `more` lines of that kind.
pub fn brambleyard(address: &str, more: &str) -> String {
    format!(
        r#"[storefronts.brambleyard]
kind = "protocol"
address = "{address}"
handle = "saltmarsh-post"

[storefronts.brambleyard.depots]  # ours = theirs
windows = "sp-win"
macos = "sp-mac"
linux = "sp-linux"
voices-en = "sp-voices"
voices-fr = "sp-voix"
voices-ja = "sp-koe"
{more}
[storefronts.brambleyard.branches]
creek = {{ audience = "invited" }}
open-water = {{ audience = "everyone" }}
"#
    )
}
