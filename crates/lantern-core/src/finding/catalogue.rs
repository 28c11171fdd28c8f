//! Every code that a finding can have, with what it means, why it matters, and how much it weighs by default. The
//! sentence and the fix of a finding say what is wrong here; this says it in general.

use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

use super::Severity;

/// What a code means in general.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Explanation {
    /// What it means.
    pub what: &'static str,
    /// Why it matters.
    pub why: &'static str,
}

/// Makes the codes: `Name "as-written", severity, accept | never, what it means, why it matters.`
macro_rules! codes {
    ($($name:ident $text:literal, $severity:ident, $accept:ident, $what:literal, $why:literal;)*) => {
        /// A stable word for programs, such as `unknown-key`, which says what kind of finding it is.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Code {
            $(#[doc = $what] $name,)*
        }

        impl Code {
            /// Every code, in alphabetical order.
            pub const ALL: &'static [Self] = &[$(Self::$name,)*];

            /// As it is written.
            pub const fn as_str(self) -> &'static str {
                match self { $(Self::$name => $text,)* }
            }

            /// How much findings of this code weigh, where nothing else is said.
            pub const fn severity(self) -> Severity {
                match self { $(Self::$name => Severity::$severity,)* }
            }

            /// Whether the configuration may accept a finding of this code. Where nothing can be made of a configuration
            /// or an export as it is, nobody can accept that.
            pub const fn can_be_accepted(self) -> bool {
                match self { $(Self::$name => codes!(@ $accept),)* }
            }

            /// What it means, and why it matters.
            pub const fn explanation(self) -> Explanation {
                match self { $(Self::$name => Explanation { what: $what, why: $why },)* }
            }
        }
    };
    (@ accept) => { true };
    (@ never) => { false };
}

codes! {
    AcceptExpired "accept-expired", Warning, accept,
        "The date until which this finding was accepted has passed.",
        "It was meant to be looked at again by then.";
    AcceptTooBroad "accept-too-broad", Note, accept,
        "A finding is accepted wherever it occurs, without an end date.",
        "The next one may be a different matter, and nobody would see it. Name a target, files or a date.";
    AcceptUnused "accept-unused", Warning, accept,
        "A finding is accepted that does not occur.",
        "Remove the entry, so that it does not hide the next finding of its kind.";
    AnotherGame "another-game", Error, accept,
        "Nothing is as in the last release: no file, and no part of one.",
        "Exporting from another game's folder is a common accident. A game that encrypts or repacks everything at each export looks like this too: then accept the finding.";
    ArchiveInside "archive-inside", Warning, accept,
        "The archive contains another archive.",
        "The export was probably packed twice: players would get a file that does not start.";
    Backslash "backslash", Error, never,
        "A path is written with the separator of Windows.",
        "The configuration is shared between computers, and a path must mean the same on each. With / it does, on Windows too.";
    BadArchive "bad-archive", Error, never,
        "The archive cannot be read, or cannot be trusted.",
        "An archive that is truncated, encrypted, or claims a size that no compression reaches is refused before anything is unpacked.";
    BadBundle "bad-bundle", Error, accept,
        "The application bundle is incomplete.",
        "Without its property list and the program named there, it is only a folder.";
    BadName "bad-name", Error, accept,
        "A file name cannot be used on every system.",
        "Control characters, separators and bytes that are not text mean different things on different systems.";
    BadPackage "bad-package", Error, accept,
        "The package is not what its file name says.",
        "The manifest or property list that every package of its kind has is missing.";
    BrokenPage "broken-page", Warning, accept,
        "The start page refers to files that are missing.",
        "Players would see a page that does not load.";
    BrokenProgram "broken-program", Error, accept,
        "A program or library cannot be read as what it appears to be.",
        "It was truncated, or changed by a tool that did not understand it.";
    BrokenSignature "broken-signature", Error, accept,
        "The signature is not valid.",
        "Something was changed after it was signed: systems refuse to start it.";
    BuildSearchPath "build-search-path", Warning, accept,
        "It looks for libraries in folders of the computer that built it.",
        "On a player's computer there is nothing in them, or something unrelated.";
    BundleSplit "bundle-split", Error, never,
        "A depot divides a macOS bundle.",
        "The bundle's signature covers all of it: a part of it has no valid signature.";
    CacheNotWritten "cache-not-written", Note, accept,
        "The results of scanning could not be cached.",
        "Nothing is lost: the next check reads the files again, and takes longer.";
    CannotSign "cannot-sign", Error, never,
        "sign is set for something that it cannot sign.",
        "Android packages and bundles, and builds for Windows, Linux and browsers can be signed; sealing it unsigned would not be what lantern.toml asks for.";
    CannotStamp "cannot-stamp", Error, never,
        "Version and number cannot be written into the target.",
        "Android packages and bundles have a manifest that is written, programs for Windows a version resource; in other builds a file of its own says both.";
    CaseConflict "case-conflict", Error, never,
        "Some names differ only in letter case or in how their characters are encoded.",
        "On Windows and macOS one of the files would overwrite the other.";
    CertificateExpired "certificate-expired", Warning, accept,
        "It was signed outside the certificate's validity, or has no time stamp to prove when it was signed.",
        "Certificates expire after some years. With a time stamp a signature stays valid; without one it expires with the certificate, and systems warn about the game.";
    CertificateKind "certificate-kind", Warning, accept,
        "It is signed with a certificate that is meant for something else.",
        "Systems check what a certificate may be used for, and accept no other kind for programs.";
    ChoiceEmpty "choice-empty", Error, never,
        "No depot is for an option of a choice.",
        "There is nothing that players could choose.";
    CompressedLibrary "compressed-library", Error, accept,
        "A native library is compressed where it must not be.",
        "It is loaded directly from the package: the device could not start the game.";
    CompressedResources "compressed-resources", Error, accept,
        "The resource table is compressed, or not aligned so that it can be mapped.",
        "Devices since 2020 refuse such a package if it is made for them.";
    ConsoleWindow "console-window", Warning, accept,
        "A Windows game opens a console window next to its own.",
        "Engines build it this way for developers. Players see a black window, and closing it ends the game.";
    DanglingLink "dangling-link", Warning, accept,
        "A link points to nothing in the export, or in a circle.",
        "A program that follows it fails on every computer. Often its target was left out.";
    DebugBuild "debug-build", Error, accept,
        "It is a debug build.",
        "It is slow, can be inspected easily, or needs libraries that players do not have.";
    DebugData "debug-data", Warning, accept,
        "It contains debug data.",
        "Players download it for no benefit, and it shows anyone how the game is made. You need it yourself: keep it aside.";
    DebugKey "debug-key", Error, accept,
        "It is signed with a debug key.",
        "Everyone has such a key. Shops refuse it, and a game published with it can never be updated with another key.";
    DepotDiffers "depot-differs", Error, never,
        "A depot that several targets share is not the same in all of their exports.",
        "All players get the same files. One of the exports may be old, or a file is meant to differ and cannot be shared.";
    DepotEmpty "depot-empty", Error, never,
        "A depot contains no files.",
        "Its patterns match nothing in the export.";
    DepotsCollide "depots-collide", Error, never,
        "Depots contain different files under the same path.",
        "Which of them a player gets would depend on the order of downloads.";
    DuplicateDepot "duplicate-depot", Error, never,
        "Two depots have the same name.",
        "A depot without rules takes its target's name; a rule must not use that name for something else.";
    DuplicateEntry "duplicate-entry", Error, never,
        "A name occurs twice in the archive.",
        "Programs differ in which of the two they take: what you tested would not be what players get.";
    DuplicateHandle "duplicate-handle", Error, never,
        "Two of our names have the same handle at a storefront.",
        "What is sent to one would arrive at the other.";
    DuplicateSystem "duplicate-system", Warning, accept,
        "Two targets of one edition are for the same system.",
        "A player's computer takes the first of them, and the board cannot tell them apart.";
    EditionFull "edition-full", Error, never,
        "The full edition is listed as a separate edition.",
        "The full edition is the game itself, and everything about it belongs in [game].";
    EditorFiles "editor-files", Warning, accept,
        "It contains files of drawing or modelling programs.",
        "They are large, and players cannot open them.";
    EmptyValue "empty-value", Error, never,
        "A value is empty.",
        "A player or a storefront would see a gap there.";
    EscapingLink "escaping-link", Error, never,
        "A link points outside the export.",
        "On a player's computer it would point to nothing, or to a file of theirs.";
    ExportEmpty "export-empty", Error, never,
        "The export contains no files.",
        "The engine probably wrote to another folder.";
    ExportForm "export-form", Error, never,
        "The export has a form that is not supported.",
        "Folders, archives and packages are.";
    ExportMissing "export-missing", Error, never,
        "The export does not exist.",
        "The engine has probably not run yet, or writes to another folder.";
    ExportRoot "export-root", Error, never,
        "The folder named in export-root is not in the export.",
        "It is never guessed: removing a top folder silently would also hide that a folder is missing.";
    FileEmptied "file-emptied", Warning, accept,
        "A file that had content in the last release is empty now.",
        "A full disk or an interrupted export leaves such files.";
    FilesMissing "files-missing", Warning, accept,
        "Many files of the last release are missing.",
        "A folder was probably not exported, or leave-out matches more than it should.";
    HistoryUnreadable "history-unreadable", Warning, accept,
        "Earlier releases could not be read.",
        "The export could not be compared with them.";
    IdentityDiffers "identity-differs", Error, accept,
        "The identity inside the build is not the one in lantern.toml.",
        "A storefront that knows the game by its identity refuses it, or takes it for another game.";
    InconsistentValues "inconsistent-values", Error, never,
        "The values do not fit together.",
        "What was meant is not known.";
    Installer "installer", Warning, accept,
        "The start file is an installer, by its name or its description.",
        "Players would run it again at each start and have the game twice, and updates would not reach what it installed.";
    KeyExpires "key-expires", Warning, accept,
        "The key's certificate expires soon, or is not valid yet.",
        "Devices and storefronts refuse what is signed with a certificate that has expired, and take no other key for an update.";
    KeyNotThere "key-not-there", Error, never,
        "lantern.toml names a key that is not in the keyring.",
        "Nothing is sealed unsigned that should be signed.";
    KeyPinned "key-pinned", Note, accept,
        "A key has signed for the first time, and is pinned.",
        "Devices take an update only when it is signed with the key of what they have: from now on no other key is used by mistake.";
    LibraryMissing "library-missing", Warning, accept,
        "It needs a library that a clean computer does not have.",
        "It starts where it was built, because the library is installed there, and on no player's computer.";
    LibraryNotFound "library-not-found", Warning, accept,
        "A library is in the export, but the program does not look for it there.",
        "It starts where it was built, because the library is installed there, and on no player's computer.";
    ListedTwice "listed-twice", Error, never,
        "Something is listed twice.",
        "One of the two is a mistake.";
    Litter "litter", Warning, accept,
        "It contains files that the operating system or an editor left behind.",
        "They are useless to players, and reveal details about your computer.";
    LongPath "long-path", Warning, accept,
        "A file's path is too long for Windows.",
        "Most programs can use paths of 259 characters. The folder that games are installed in takes some of them; the rest must be enough for the file.";
    MissingKey "missing-key", Error, never,
        "A required key is missing.",
        "Nothing can be done without it; docs/configuration.md explains each key.";
    MustHave "must-have", Error, never,
        "A required file is missing.",
        "must-have in lantern.toml says that the build is incomplete without it.";
    MustMention "must-mention", Error, accept,
        "A required text is missing.",
        "must-mention in lantern.toml says that the build is wrong without it.";
    MustNotMention "must-not-mention", Error, accept,
        "It contains a text that must not be in it.",
        "Often it is the address or handle of another edition.";
    NewGlibc "new-glibc", Warning, accept,
        "It needs a newer C library than many systems have.",
        "A program starts on the system it was built on and on newer ones, not on older ones.";
    NewSystem "new-system", Warning, accept,
        "It needs a newer system than many players have, or than it declares.",
        "A bundle that declares an older system than its program supports is started there, and ends at once.";
    NewestExportTaken "newest-export-taken", Note, accept,
        "Several exports match, and the newest is taken.",
        "It is reported so that you can see which one it was.";
    NoDrilledBackup "no-drilled-backup", Warning, accept,
        "The key has no backup that was ever opened.",
        "If the key is lost, the game can never be updated again on the devices that have it. A copy that was never opened may not open.";
    NoHandle "no-handle", Error, never,
        "A depot has no handle at a storefront.",
        "A storefront knows depots by its own names, which cannot be guessed from ours.";
    NoIcon "no-icon", Warning, accept,
        "It has no icon.",
        "Players see the symbol for an unknown program.";
    NoNumber "no-number", Error, accept,
        "The package has no build number.",
        "A device recognises a newer package by its number alone.";
    NoProfile "no-profile", Warning, accept,
        "It contains no provisioning profile.",
        "A profile says which app may be installed where, and what it may do. No phone accepts a package without one, and no Mac starts a signed program that asks for restricted permissions without one.";
    NoStart "no-start", Error, never,
        "It is not clear which program starts the game.",
        "If there is exactly one program at the top level, it is taken. Otherwise lantern.toml has to name it.";
    NoTarget "no-target", Error, never,
        "There are no targets.",
        "A target is an export that becomes a part of a release.";
    NoTimeStamp "no-time-stamp", Warning, accept,
        "Programs are signed without a time stamp.",
        "Their signatures end with the certificate. With a time stamp Windows goes on taking what was signed while it was valid.";
    NotABuild "not-a-build", Error, never,
        "The export is a source project or an installer, not a build.",
        "Players get the files as they are: nothing is built or set up on their computer.";
    NotAPackage "not-a-package", Error, never,
        "A build for a phone or tablet must be a package.",
        "Devices install one file, which the engine makes for them.";
    NotAProgram "not-a-program", Error, accept,
        "The start file is not a program.",
        "It would be installed, and nothing would start.";
    NotToml "not-toml", Error, never,
        "The file is not valid TOML.",
        "Nothing in it can be understood before this is fixed.";
    NotUtf8 "not-utf8", Error, never,
        "The file is not UTF-8 text.",
        "Every program must read the same characters in it.";
    NumberDiffers "number-differs", Error, accept,
        "The build number inside the build is not the one its release gets.",
        "Devices and stores go by the number inside; the board and the history go by that of the release. They must agree.";
    NumberNotRaised "number-not-raised", Error, accept,
        "The build number inside is not higher than in the last release.",
        "A device recognises an update by this number alone. It refuses a lower one, and shops also refuse the same one.";
    OldFileReturned "old-file-returned", Warning, accept,
        "A file is back as it was in an older release.",
        "It was probably left over from an earlier export, in a folder that the engine does not empty.";
    Only32Bit "only-32-bit", Error, accept,
        "Programs or native libraries are 32-bit only.",
        "Shops require 64-bit ones, and newer devices start nothing else.";
    OnlyCompressed "only-compressed", Note, accept,
        "A web file is there in compressed form only.",
        "A browser decompresses it if the host declares the compression. A host that does not sends bytes that the page cannot use.";
    OtherEdition "other-edition", Error, accept,
        "The build has the identity of another edition.",
        "Players of the demo would get the full game, or the other way round.";
    OtherEditionNamed "other-edition-named", Warning, accept,
        "A file mentions another edition by its identity or handle.",
        "A setting of the other edition was probably exported too: links, purchases and scores would go there.";
    OtherKey "other-key", Error, never,
        "It would be signed with another key than the pinned one.",
        "Devices refuse an update that is signed with another key: players would have to remove the game, with their saves, and install it again.";
    OtherSigner "other-signer", Warning, accept,
        "Something in the bundle is signed by another team than the bundle.",
        "With the hardened runtime, and on every phone, it is not loaded: the game ends when it starts.";
    OverlappingDepots "overlapping-depots", Error, never,
        "Some files belong to two depots.",
        "They would be downloaded twice, and it would be chance which copy remains.";
    PathBelowFile "path-below-file", Error, never,
        "An archive lists something below a path that is a file.",
        "No folder can be made where a file is: the game could not be installed.";
    Placeholder "placeholder", Error, accept,
        "A placeholder was never filled in.",
        "A storefront would have refused it, after an hour of upload.";
    ProfileMismatch "profile-mismatch", Error, accept,
        "The provisioning profile and the program do not fit together.",
        "A device compares the two before it installs or starts anything, and does not say why it refused.";
    ProfileReach "profile-reach", Note, accept,
        "The provisioning profile is for certain devices only.",
        "That is right for testers, and unusable for the shop.";
    ProgramsToSign "programs-to-sign", Note, accept,
        "Programs and libraries of the target are signed.",
        "It is reported so that you can see how often a key, a token or a service will be asked, and whose signatures stay.";
    ReservedName "reserved-name", Warning, accept,
        "The export contains files with names that lantern uses.",
        "Installed copies keep their state under names that start with .lantern: no build may contain such files, in any spelling.";
    RulesMissing "rules-missing", Error, never,
        "The file with a storefront's rules cannot be read.",
        "Without it nobody knows what the storefront wants, and what to do there.";
    Secret "secret", Error, accept,
        "It contains a secret.",
        "Everyone who downloads the game would have it. Take it out, and replace it wherever it was used.";
    SignatureSchemeMissing "signature-scheme-missing", Error, accept,
        "A signature scheme is missing that some of the supported devices require.",
        "Old devices know only the first scheme, new ones refuse it alone. With both, every device can install the game.";
    SignedWithAnotherKey "signed-with-another-key", Error, never,
        "The export is signed already, with another key than the configured one.",
        "Someone meant it to have that key. Signing it again is done only when lantern.toml says so.";
    SimulatorBuild "simulator-build", Error, accept,
        "It is built for the simulator.",
        "It starts on developers' computers only.";
    SizeJump "size-jump", Warning, accept,
        "The size differs a lot from the last release.",
        "Something was probably added by mistake, or is missing.";
    SmallIcon "small-icon", Warning, accept,
        "The icon is small.",
        "Systems show it large, and it looks blurred.";
    SmallPages "small-pages", Warning, accept,
        "A native library was built for memory pages of 4 KB.",
        "Newer devices have pages of 16 KB and do not load it.";
    SourceFiles "source-files", Warning, accept,
        "It contains source files.",
        "Players do not need them, and some may not be yours to distribute.";
    SparseFile "sparse-file", Warning, accept,
        "Most of a file was never written.",
        "An export that was interrupted leaves files of the right length without content.";
    SpecialFile "special-file", Error, never,
        "Something is neither a file nor a folder nor a link.",
        "Pipes, sockets and devices mean nothing on a player's computer.";
    StaleLedgerCopy "stale-ledger-copy", Warning, accept,
        "The copy of the ledger is out of date.",
        "If the ledger is lost, what came after the copy can only be recovered in part.";
    StampNotSeen "stamp-not-seen", Note, accept,
        "The last release was stamped, and nobody tried it.",
        "A number that the game draws on its own screen comes from the engine, and a stamp does not reach it: only a look shows whether it is the right one.";
    StartAside "start-aside", Error, never,
        "The start file is kept aside.",
        "Players would get everything but the program.";
    StartCase "start-case", Error, never,
        "The start file is written with different letter case.",
        "It starts on the computer where it was built, and on none where letter case matters.";
    StartFolder "start-folder", Error, never,
        "The folder that the game runs in does not exist.",
        "It would start, and find none of its files.";
    StartMissing "start-missing", Error, never,
        "The start file does not exist.",
        "It is probably in another folder, or the export is for another system.";
    StartOptional "start-optional", Error, never,
        "The start file is in a depot that not every player downloads.",
        "Some players would have a game that does not start.";
    StoreDamaged "store-damaged", Warning, accept,
        "Files of the store are damaged or missing.",
        "Damaged files are never sent or copied, and earlier releases may need what is lost. A disk that lost data may lose more.";
    TestOnly "test-only", Error, accept,
        "The package is marked as a test build.",
        "Shops and devices refuse it.";
    TicketMismatch "ticket-mismatch", Warning, accept,
        "The notarization ticket is for another build.",
        "It lists the programs that were checked by their hashes. After signing again they differ, and a computer without a network warns about the game.";
    TooLarge "too-large", Error, never,
        "A file is larger than any plausible one.",
        "It is probably a disk image, or a log that was never closed.";
    TooManyFindings "too-many-findings", Error, never,
        "There are too many mistakes to list.",
        "Probably something else was saved under this name.";
    UnalignedLibrary "unaligned-library", Warning, accept,
        "A native library is not aligned to 16 KB.",
        "Devices with large pages cannot load it from the package.";
    UnchangedTarget "unchanged-target", Warning, accept,
        "A target is unchanged, although others changed.",
        "It was probably not exported again: its players would get a new version with the old content.";
    UnknownChoice "unknown-choice", Error, never,
        "A choice is not among the choices of lantern.toml.",
        "It is a spelling mistake, or the choice was renamed.";
    UnknownCode "unknown-code", Error, never,
        "No finding has this code.",
        "A misspelt code has no effect, and looks as if it had.";
    UnknownDepot "unknown-depot", Error, never,
        "A storefront has a handle for a depot that does not exist.",
        "The depot was renamed, or its name is misspelt: players there would not get it.";
    UnknownEdition "unknown-edition", Error, never,
        "There is no edition of this name.",
        "A misspelt name would silently become an edition of its own.";
    UnknownKey "unknown-key", Error, never,
        "There is no key of this name.",
        "A misspelt key has no effect, and looks as if it had.";
    UnknownOption "unknown-option", Error, never,
        "A choice has no such option: no depot is for it.",
        "It is a spelling mistake, or the depot was renamed or removed.";
    UnknownTarget "unknown-target", Error, never,
        "There is no target of this name.",
        "A misspelt name would silently have no effect.";
    UnmappedFiles "unmapped-files", Error, never,
        "Some files belong to no depot.",
        "Players would not get them.";
    Unreadable "unreadable", Error, never,
        "Something cannot be read.",
        "What cannot be read cannot be sent.";
    Unsigned "unsigned", Warning, accept,
        "It is not signed.",
        "Systems warn about it, or do not start it.";
    UnusedPattern "unused-pattern", Warning, accept,
        "A pattern matches nothing in the export.",
        "A file was probably renamed, and the pattern no longer applies to it.";
    UnusualLoader "unusual-loader", Warning, accept,
        "The program asks for a loader that most systems do not have.",
        "Systems for servers and for building have loaders of their own; on a player's desktop the program fails as if it did not exist.";
    VersionBehind "version-behind", Warning, accept,
        "The version is lower than one that is live.",
        "Players would see a lower version than they have, and so would you when they report a bug.";
    VersionDiffers "version-differs", Error, accept,
        "The version inside the build is not the one the release gets.",
        "Players see the one in the build, you talk about the other. It also happens when an export was not made again.";
    VersionReused "version-reused", Warning, accept,
        "Different content gets a version that is already in use.",
        "Only the build number tells the two apart, and players see the version alone.";
    WindowsLinks "windows-links", Warning, accept,
        "An export for Windows contains symbolic links.",
        "Windows creates them only for administrators and in developer mode: other players could not install the game.";
    WindowsName "windows-name", Error, never,
        "A name is not allowed on Windows.",
        "Windows reserves some words, endings and characters; the file could not be installed there.";
    WithdrawnBefore "withdrawn-before", Error, accept,
        "The exports are identical to a release that was withdrawn.",
        "What was taken away for a reason would be published again.";
    WrongAddress "wrong-address", Error, never,
        "The address cannot be used.",
        "Plain HTTP is allowed to this computer only: a secret must not cross a network unencrypted.";
    WrongLibrary "wrong-library", Error, accept,
        "A library next to the program is for another processor.",
        "The program loads it at start, and the system cannot: nothing starts.";
    WrongPattern "wrong-pattern", Error, never,
        "This is not a valid pattern.",
        "What it was meant to match is not known.";
    WrongSystem "wrong-system", Error, accept,
        "It is for another system or processor than declared.",
        "It would be installed, and not start.";
    WrongType "wrong-type", Error, never,
        "A value has the wrong type.",
        "For example a number where a text is expected, or a list where a single value is.";
    WrongValue "wrong-value", Error, never,
        "This value is not allowed here.",
        "The message gives the rule; docs/configuration.md explains it.";
    WrongVersion "wrong-version", Error, never,
        "The version file does not contain a version.",
        "It must contain the version and nothing else.";
}

impl Code {
    /// Returns the code that someone may have meant.
    pub fn nearest(text: &str) -> Option<Self> {
        crate::names::nearest(text, Self::ALL.iter().map(|code| code.as_str()))?.parse().ok()
    }
}

impl fmt::Display for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// No finding has this code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("no finding has this code")]
pub struct UnknownCode;

impl FromStr for Code {
    type Err = UnknownCode;

    fn from_str(text: &str) -> Result<Self, UnknownCode> {
        let at = Self::ALL.binary_search_by(|code| code.as_str().cmp(text));
        at.ok().and_then(|at| Self::ALL.get(at)).copied().ok_or(UnknownCode)
    }
}

impl Serialize for Code {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.as_str())
    }
}

impl<'de> Deserialize<'de> for Code {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Cow::<str>::deserialize(deserializer)?.parse().map_err(de::Error::custom)
    }
}

/// Any text: a newer lantern has more codes.
impl JsonSchema for Code {
    fn inline_schema() -> bool {
        true
    }

    fn schema_name() -> Cow<'static, str> {
        "Code".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string" })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_is_read_as_it_is_written_and_explained() {
        assert!(Code::ALL.is_sorted_by_key(|code| code.as_str()));
        for code in Code::ALL {
            assert_eq!(code.as_str().parse(), Ok(*code));
            let Explanation { what, why } = code.explanation();
            assert!(what.ends_with('.') && why.ends_with('.'), "{code}");
        }
        assert_eq!("nothing".parse::<Code>(), Err(UnknownCode));
        assert_eq!(Code::nearest("unknwon-key"), Some(Code::UnknownKey));
    }

    #[test]
    fn what_only_warns_can_always_be_accepted() {
        for code in Code::ALL {
            assert!(code.can_be_accepted() || code.severity() == Severity::Error, "{code}");
        }
    }
}
