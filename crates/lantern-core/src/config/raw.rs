//! The shape of `lantern.toml`, as serde reads it and as the JSON Schema describes it.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Deserialize;

use crate::compression::Compression;

/// What a game is, what its exports are, and where players get it.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "lantern.toml")]
pub struct Config {
    /// The game.
    pub game: Game,
    /// What a storefront lists next to the full game: a demo, a companion, an add-on.
    #[serde(default)]
    pub editions: BTreeMap<String, Edition>,
    /// The exports, each under a name of your choice.
    #[serde(default)]
    pub targets: BTreeMap<String, Target>,
    /// What a player chooses at install, each under a name of your choice. The options are what depots name.
    #[serde(default)]
    pub choices: BTreeMap<String, Choice>,
    /// What a player's machine downloads, each under a name of your choice. A target without rules here is one depot of
    /// its own name.
    #[serde(default)]
    pub depots: BTreeMap<String, Depot>,
    /// The storefronts where players get builds, each under a name of your choice.
    #[serde(default)]
    pub storefronts: BTreeMap<String, Storefront>,
    /// What is checked, and what of it is accepted.
    #[serde(default)]
    pub checks: Checks,
    /// The studio's own questions, which are answered for each release.
    #[serde(default)]
    pub last_look: LastLook,
    /// Devices that builds are tried on, each under a name of your choice.
    #[serde(default)]
    pub devices: BTreeMap<String, Device>,
    /// What signs with a key that is not in the keyring, each under a name of your choice.
    #[serde(default)]
    pub signers: BTreeMap<String, Signer>,
    /// Who states when programs for Windows were signed.
    #[serde(default)]
    pub time_stamps: Option<TimeStamps>,
    /// Vendors of systems that look at signed bundles before players get them.
    #[serde(default)]
    pub approvals: BTreeMap<String, Approval>,
    /// How releases are sealed.
    #[serde(default)]
    pub sealing: Sealing,
    /// The keys that each identity is known by. lantern writes them when something is signed for the first time.
    #[serde(default)]
    pub pins: BTreeMap<String, Pins>,
}

/// A vendor of a system, who looks at signed bundles and gives back a ticket.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Approval {
    /// Targets whose bundles are handed over.
    pub targets: Vec<String>,
    /// The program that hands them over, then its arguments. Left out: a person does it.
    #[serde(default)]
    pub run: Vec<String>,
    /// How long it may take for one answer, such as "10 minutes". Left out: 30 minutes.
    #[serde(default)]
    pub time_limit: Option<String>,
    /// Values for the program, free.
    #[serde(default)]
    pub values: BTreeMap<String, String>,
    /// What a person does.
    #[serde(default)]
    pub how: Option<String>,
    /// Where a person does it.
    #[serde(default)]
    pub address: Option<String>,
    /// How long an answer usually takes, such as "2 hours".
    #[serde(default)]
    pub usually: Option<String>,
}

/// How releases are sealed.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Sealing {
    /// How hard it is tried to make files short that can be compressed: "fast" (left out), or "small", which takes some twenty times the
    /// processor time for what is new, and saves new players 5 to 12 per cent of the download.
    #[serde(default)]
    pub compression: Compression,
    /// The key that signs a statement of how each release was prepared, as it is sealed: of the keyring, or one of `[signers]`.
    #[serde(default)]
    pub statement: Option<String>,
}

/// An authority that states when something was signed, so that the signature holds when its certificate is over.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct TimeStamps {
    /// Its address. It speaks the Time-Stamp Protocol (RFC 3161) over HTTP or HTTPS.
    pub authority: String,
    /// What happens when it cannot be reached: "stop" (left out), or "go-on" without a time stamp.
    #[serde(default)]
    pub unreachable: Option<String>,
}

/// What signs with a key that is elsewhere: a token (module, token, key), or a program (run).
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Signer {
    /// The program, then its arguments; a path is one from the folder of lantern.toml.
    #[serde(default)]
    pub run: Vec<String>,
    /// The library of PKCS #11 that speaks to the token, such as "libsofthsm2.so": a path, or a name that the system finds.
    #[serde(default)]
    pub module: Option<String>,
    /// The token's label.
    #[serde(default)]
    pub token: Option<String>,
    /// The key's label on the token.
    #[serde(default)]
    pub key: Option<String>,
    /// File with the certificate of its key and those above it, as PEM.
    pub certificate: String,
    /// How long one signature may take, such as "2 minutes". Left out: 5 minutes.
    #[serde(default)]
    pub time_limit: Option<String>,
}

/// The keys that one identity is known by.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Pins {
    /// Those of Android packages and bundles.
    #[serde(default)]
    pub android: AndroidPins,
}

/// The keys of Android packages and bundles, as SHA-256 fingerprints of their certificates.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct AndroidPins {
    /// The one that devices know the game by: packages are signed with it.
    #[serde(default)]
    pub on_device: Option<String>,
    /// The one that storefronts know your bundles by, which sign them again for devices.
    #[serde(default)]
    pub at_storefront: Option<String>,
}

/// A device that builds are tried on.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Device {
    /// Systems whose builds it takes.
    pub systems: Vec<String>,
    /// The program that puts a build on it and starts it, then its arguments, with values in braces such as "{file}"; a path
    /// is one from the folder of lantern.toml.
    pub run: Vec<String>,
}

/// The studio's own questions, which are answered for each release.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LastLook {
    /// Each of them is answered with yes before a branch moves that needs it.
    #[serde(default)]
    pub questions: Vec<String>,
}

/// What is checked, and what of it is accepted.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Checks {
    /// Findings that are meant to be so.
    #[serde(default)]
    pub accept: Vec<Accept>,
    /// Codes of warnings that stop in this project.
    #[serde(default)]
    pub stop: Vec<String>,
}

/// A finding that is meant to be so.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Accept {
    /// Code of the finding, as it is shown in brackets.
    pub code: String,
    /// Why it is meant to be so.
    pub because: String,
    /// Target that it is about. Left out: every one.
    #[serde(default)]
    pub target: Option<String>,
    /// Pattern of the files that it is about: accepted is what is about such files alone. Left out: any.
    #[serde(default)]
    pub path: Option<String>,
    /// Last day on which it is accepted, such as "2027-03-01". Left out: for ever.
    #[serde(default)]
    pub until: Option<String>,
}

/// The game.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Game {
    /// The name that players see.
    pub name: String,
    /// Who makes it.
    pub studio: String,
    /// Reverse-domain identity, kept for ever, such as "example.studio.game".
    pub identity: String,
    /// The version for people, or the file that holds it.
    pub version: Version,
}

/// A thing of its own that a storefront lists.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Edition {
    /// The name that players see.
    pub name: String,
    /// What it is. Left out: a game.
    #[serde(default)]
    pub kind: EditionKind,
    /// Reverse-domain identity of its own. Left out: the game's.
    #[serde(default)]
    pub identity: Option<String>,
    /// A version of its own. Left out: the game's.
    #[serde(default)]
    pub version: Option<Version>,
    /// Of an add-on: the game's depots that it brings to players who have it.
    #[serde(default)]
    pub depots: Vec<String>,
}

/// What an edition is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum EditionKind {
    /// A game.
    #[default]
    Game,
    /// A part of the game to try.
    Demo,
    /// Something to open with another program: music, a book. Nothing in it is started.
    Companion,
    /// Something that needs the game. Nothing in it is started by itself.
    AddOn,
}

/// A version, or the file that holds it.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Version {
    /// The version itself.
    Text(String),
    /// A text file with the version and nothing else.
    #[serde(rename_all = "kebab-case")]
    File {
        /// Path of the file, from the folder of lantern.toml.
        file: String,
    },
}

/// An export for one or several systems.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Target {
    /// Edition that the export is of. Left out: the full game.
    #[serde(default)]
    pub edition: Option<String>,
    /// Systems the export is for. Left out: seen from the start file.
    #[serde(default)]
    pub systems: Vec<String>,
    /// Folder, archive or package that the engine wrote, from the folder of lantern.toml; with * the newest of several.
    pub export: String,
    /// Folder within the export that is the build. Left out: all of it.
    #[serde(default)]
    pub export_root: Option<String>,
    /// File that starts the game. Left out: the only program at the top of the export, or the web start page.
    #[serde(default)]
    pub starts: Option<Starts>,
    /// Name of the folder that it is installed into. Left out: the storefront decides.
    #[serde(default)]
    pub install_folder: Option<String>,
    /// Files that stay out, as patterns.
    #[serde(default)]
    pub leave_out: Vec<String>,
    /// Files that are sealed and never sent, such as symbols, as patterns.
    #[serde(default)]
    pub keep_aside: Vec<String>,
    /// Files without which the export is not whole, as patterns.
    #[serde(default)]
    pub must_have: Vec<String>,
    /// Texts that some file must hold, such as the address of the right edition's page.
    #[serde(default)]
    pub must_mention: Vec<String>,
    /// Texts that no file may hold, such as another edition's handle.
    #[serde(default)]
    pub must_not_mention: Vec<String>,
    /// Files to be executable although neither their content nor being the start file shows it, as patterns.
    #[serde(default)]
    pub executable: Vec<String>,
    /// Key of the keyring, or one of the signers, that signs it.
    #[serde(default)]
    pub sign: Option<String>,
    /// Programs and libraries for Windows that are signed, as patterns. Left out: all that nobody else has signed.
    #[serde(default)]
    pub sign_files: Vec<String>,
    /// Whether a package that was signed with another key is signed again.
    #[serde(default)]
    pub sign_again: bool,
    /// File with the chain of keys that "lantern key rotate" wrote, where the key came after another one.
    #[serde(default)]
    pub lineage: Option<String>,
    /// API level since which the newer key is used, 28 or more. Left out: 33.
    #[serde(default)]
    pub lineage_from: Option<u32>,
    /// Whether version and number are written into the package, or into the program that starts on Windows, before it is signed.
    /// Left out: they must agree.
    #[serde(default)]
    pub stamp: bool,
    /// File that version and number are written to, for the game to show them, such as "version.txt".
    #[serde(default)]
    pub version_file: Option<String>,
    /// Property list with what the program that starts may do on macOS or iOS, from the folder of lantern.toml. Left out: what its
    /// signature says, or its profile.
    #[serde(default)]
    pub entitlements: Option<String>,
    /// Profile that is laid into the bundle that starts, from the folder of lantern.toml.
    #[serde(default)]
    pub profile: Option<String>,
    /// Whether programs for macOS are signed for its hardened runtime, which approval needs. Left out: true.
    #[serde(default)]
    pub hardened_runtime: Option<bool>,
    /// The same of other bundles and programs in the build, by their paths in it.
    #[serde(default)]
    pub inside: BTreeMap<String, Inside>,
}

/// What is signed inside of a bundle.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Inside {
    /// Property list with what it may do, from the folder of lantern.toml.
    #[serde(default)]
    pub entitlements: Option<String>,
    /// Profile that is laid into it, from the folder of lantern.toml.
    #[serde(default)]
    pub profile: Option<String>,
}

/// A start file: alone, with more, or one for each system.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Starts {
    /// The program: a path in the export.
    Program(String),
    /// The program, then its arguments.
    Command(Vec<String>),
    /// A command with what it needs.
    One(Start),
    /// One for each system.
    Several(Vec<Start>),
}

/// A start file with what it needs.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Start {
    /// The program, a path in the export, then its arguments.
    pub run: Vec<String>,
    /// Folder in the export that it works in. Left out: the folder that it is installed into.
    #[serde(default)]
    pub cwd: Option<String>,
    /// Systems that start with it. Left out: all of the target.
    #[serde(default)]
    pub systems: Vec<String>,
}

/// A unit of download.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Depot {
    /// Target whose export it takes files from; or a list of targets that share it, and must have the same files there.
    pub from: DepotFrom,
    /// Files that it takes, as patterns. Left out: all.
    #[serde(default)]
    pub only: Vec<String>,
    /// Files that it leaves to other depots, as patterns.
    #[serde(default)]
    pub leave_out: Vec<String>,
    /// What a player has to have chosen to download it: choice = option. Left out: everybody does.
    #[serde(default)]
    pub choice: BTreeMap<String, String>,
}

/// One target, or several.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum DepotFrom {
    /// Of one target.
    One(String),
    /// Shared by several.
    Several(Vec<String>),
}

impl DepotFrom {
    /// Returns the targets' names.
    pub fn names(&self) -> &[String] {
        match self {
            Self::One(name) => std::slice::from_ref(name),
            Self::Several(names) => names,
        }
    }

    /// Whether a target is among them.
    pub fn has(&self, target: &str) -> bool {
        self.names().iter().any(|name| name == target)
    }
}

/// Something that a player chooses.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Choice {
    /// What a player has who does not choose: an option, or "by-language" for the one that fits the language of their
    /// system. Left out: none.
    #[serde(default)]
    pub default: Option<String>,
}

/// A storefront where players get builds.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Storefront {
    /// Speaks the storefront protocol.
    Protocol(Protocol),
    /// Has no interface for programs: a person does it, step by step.
    ByHand(ByHand),
    /// A program of the studio's own does what is done there; what it does not do, a person does.
    Connector(Connector),
}

/// A storefront without an interface for programs.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ByHand {
    /// File with its rules: what is handed over, and the steps. Left out: a ZIP archive for each target, and one step.
    #[serde(default)]
    pub rules: Option<String>,
    /// What the storefront calls the game; with several editions: edition = handle. Left out: the full game, by its identity.
    #[serde(default)]
    pub handle: Option<Handles>,
    /// Targets that go there. Left out: all of the editions that have a handle.
    #[serde(default)]
    pub targets: Vec<String>,
    /// Texts that only this storefront knows, for its steps: key = text.
    #[serde(default)]
    pub values: BTreeMap<String, String>,
    /// Whose account each role is that steps are for: role = account.
    #[serde(default)]
    pub people: BTreeMap<String, String>,
    /// How releases are named there, with values in braces, such as "{release.version}". Left out: by their version.
    #[serde(default)]
    pub name_there: Option<String>,
    /// The branches that are used there. Left out: one for everyone, called "public".
    #[serde(default)]
    pub branches: BTreeMap<String, Branch>,
}

/// A storefront at which a program of the studio's own does what is done.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Connector {
    /// The program, then its arguments; a path is one from the folder of lantern.toml.
    pub run: Vec<String>,
    /// How long the program has for one action, such as "3 hours". Left out: 6 hours.
    #[serde(default)]
    pub time_limit: Option<String>,
    /// What a person does there, and what all of it is about.
    #[serde(flatten)]
    pub by_hand: ByHand,
}

/// A storefront that speaks the storefront protocol.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Protocol {
    /// Its address, such as "http://127.0.0.1:4870".
    pub address: String,
    /// What the storefront calls the game; with several editions: edition = handle.
    pub handle: Handles,
    /// Targets that go there. Left out: all of the editions that have a handle.
    #[serde(default)]
    pub targets: Vec<String>,
    /// What the storefront calls our depots: ours = theirs.
    #[serde(default)]
    pub depots: BTreeMap<String, String>,
    /// How it is to name releases, with values in braces, such as "{release.version}". Left out: as it does itself.
    #[serde(default)]
    pub name_there: Option<String>,
    /// The branches that are used there.
    #[serde(default)]
    pub branches: BTreeMap<String, Branch>,
}

/// What a place calls the game, or each edition of it.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Handles {
    /// Of the full game.
    One(String),
    /// Edition = handle.
    Each(BTreeMap<String, String>),
}

/// A branch at a storefront.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Branch {
    /// Who can follow it.
    pub audience: Audience,
    /// What the storefront calls it, where that is something else.
    #[serde(default)]
    pub theirs: Option<String>,
    /// What a release needs before it is put there.
    #[serde(default)]
    pub needs: Vec<Need>,
    /// Targets whose trial is needed. Left out: any one.
    #[serde(default)]
    pub trial_of: Vec<String>,
}

/// What a release needs before it is put on a branch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Need {
    /// Someone tried it and said yes.
    Trial,
    /// Every question of the last look was answered with yes.
    LastLook,
}

/// Who can follow a branch.
#[derive(Debug, Clone, Copy, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Audience {
    /// All players.
    Everyone,
    /// Who has an invitation.
    Invited,
}

impl From<Audience> for crate::audience::Audience {
    fn from(audience: Audience) -> Self {
        match audience {
            Audience::Everyone => Self::Everyone,
            Audience::Invited => Self::Invited,
        }
    }
}
