//! The story behind every finding: what it is, and why it matters. The sentence and the cure of a finding say what is
//! wrong here; this says it in general.

/// The story of a code.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Story {
    /// As findings have it.
    pub code: &'static str,
    /// What it means.
    pub what: &'static str,
    /// Why it matters.
    pub why: &'static str,
}

const fn story(code: &'static str, what: &'static str, why: &'static str) -> Story {
    Story { code, what, why }
}

/// Every one, in the order of the codes.
pub const ALL: &[Story] = &[
    story("accept-over", "A finding was accepted until a day that is over.", "It was to be looked at again."),
    story(
        "accept-unused",
        "A finding is accepted that is not there.",
        "It may go, so that it does not hide the next one.",
    ),
    story(
        "accept-wide",
        "A finding is accepted wherever it comes up, and for ever.",
        "The next one of its kind may be another matter, and nobody would hear of it. Name a target, files or a day.",
    ),
    story(
        "another-game",
        "Nothing is as in the last release: no file, and no part of one.",
        "The folder of another game is an accident that happens. A game that encrypts or packs everything anew at each export may be like this, too: then accept it.",
    ),
    story(
        "archive",
        "The archive cannot be read, or not be trusted.",
        "What is cut off, encrypted, or claims a size that no compression reaches is refused before anything is unpacked.",
    ),
    story(
        "archive-inside",
        "An archive lies in the archive.",
        "Mostly the export was packed twice: players would get a file that nothing starts.",
    ),
    story(
        "archive-twice",
        "A name stands twice in the archive.",
        "Programs differ in which of the two they take: what was tested would not be what players get.",
    ),
    story(
        "backslash",
        "A path is written with the separator of Windows.",
        "The file travels between computers, and a path must mean the same on each. With / it does, on Windows too.",
    ),
    story(
        "below-a-file",
        "An archive claims that something lies below a file.",
        "No folder can be made where a file is: nobody could install it.",
    ),
    story(
        "broken-program",
        "A program cannot be read as what it seems to be.",
        "It was cut off, or changed by something that did not understand it.",
    ),
    story(
        "bundle",
        "The bundle is not whole.",
        "Without its property list and the program that it names it is a folder.",
    ),
    story(
        "bundle-split",
        "A depot divides a bundle of macOS.",
        "Its signature covers all of it: divided, it is broken.",
    ),
    story(
        "came-back",
        "A file is back as it was in an older release.",
        "Mostly it was left over from an earlier export, in a folder that the engine does not empty.",
    ),
    story(
        "certificate-kind",
        "It is signed with a certificate that is for something else.",
        "Systems look at what a certificate is for, and take no other one for programs.",
    ),
    story(
        "certificate-over",
        "It was signed when its certificate did not hold, or nobody has said when.",
        "A certificate ends after some years. With a time stamp a signature outlives it; without one it ends with it, and systems warn of the game.",
    ),
    story(
        "console-window",
        "A game for Windows opens a console window beside itself.",
        "Engines build it so for developers. Players see a black window, and end the game when they close it.",
    ),
    story(
        "debug-build",
        "It is a developer's build.",
        "It is slow, can be looked into, or needs libraries that no player has.",
    ),
    story(
        "debug-data",
        "Data for debuggers is in it.",
        "Players download it for nothing, and it shows everybody how the game is made. You need it: keep it aside.",
    ),
    story(
        "debug-key",
        "It is signed with a developer's key.",
        "Everybody has such a key; shops refuse it, and a game that is out with it can never be updated with another.",
    ),
    story(
        "depot-differs",
        "A depot that several systems share is not the same in all of their exports.",
        "It is taken from one of them. One of the exports may be an old one, or the file is meant to differ and cannot be shared.",
    ),
    story(
        "depot-elsewhere",
        "A release of a part needs a depot that is made of a target outside of it.",
        "Players of the part would lack its files.",
    ),
    story("depot-empty", "A depot takes nothing.", "Its patterns mean nothing in the export."),
    story("depot-nowhere", "A depot belongs to no target.", "Nobody would download it."),
    story(
        "depot-twice",
        "One name stands for two depots.",
        "A depot without rules has its target's name; a rule may not take that name for something else.",
    ),
    story(
        "depots-collide",
        "Depots bring different files of one name.",
        "Which of them a player has would depend on the order of downloads.",
    ),
    story(
        "edition-full",
        "The full edition is written as if it were another one.",
        "The full edition is the game itself, and everything about it stands in [game].",
    ),
    story(
        "editor-files",
        "Files of the programs that the game was made with are in it.",
        "They are large, and nobody can open them.",
    ),
    story(
        "empty",
        "Something must stand there and does not.",
        "Whoever reads it later, a player or a storefront, would see a gap.",
    ),
    story("export-empty", "The export holds nothing.", "Mostly the engine wrote to another folder."),
    story("export-form", "The export is nothing that can be taken in.", "A folder, an archive or a package is."),
    story(
        "export-missing",
        "The export is not there.",
        "Mostly the engine has not run yet, or writes to another folder.",
    ),
    story(
        "export-newest",
        "Several exports fit, and the newest is taken.",
        "It is said, so that nobody wonders which it was.",
    ),
    story(
        "export-root",
        "The folder that is to be the build is not in the export.",
        "It is never guessed: a top folder that is stripped silently is a folder that is missing silently.",
    ),
    story(
        "files-gone",
        "Many files of the last release are gone.",
        "Mostly a folder was not exported, or leave-out means more than it should.",
    ),
    story("handle-twice", "Two of ours have one name at the place.", "What is sent to one would arrive as the other."),
    story(
        "identity-differs",
        "The build has another identity inside than lantern.toml says.",
        "A place that knows the game by its identity refuses it, or takes it for another game.",
    ),
    story("in-no-depot", "Files are in no depot.", "Players would not get them."),
    story(
        "in-two-depots",
        "Files are in two depots.",
        "They would be downloaded twice, and which one stays would be chance.",
    ),
    story(
        "ledger-copy",
        "The copy of the ledger is not up to date.",
        "When the ledger is lost, what came after its copy can only be found out in part.",
    ),
    story(
        "library-missing",
        "It needs a library that a clean computer lacks.",
        "It starts where it was built, because the library is there, and on no player's computer.",
    ),
    story(
        "library-unfound",
        "A library lies in the export, and the program does not look there.",
        "It starts where it was built, because the library is installed there, and on no player's computer.",
    ),
    story(
        "library-wrong",
        "A library beside the program is for another processor.",
        "The program asks for it when it starts, and the system cannot load it: nothing starts.",
    ),
    story(
        "link-dead",
        "A link leads to nothing in the export, or in a circle.",
        "A program that follows it fails on every computer. Often its target was left out.",
    ),
    story(
        "link-leaves",
        "A link points outside of the export.",
        "On a player's computer it would point to nothing, or to something of theirs.",
    ),
    story(
        "litter",
        "Files of a system or an editor came along.",
        "They mean nothing to players, and show what your computer looks like inside.",
    ),
    story(
        "long-path",
        "The path of a file is too long for Windows.",
        "Where games lie takes some of the 259 characters that most programs can use; the rest must be enough for the file.",
    ),
    story(
        "missing-key",
        "A key that must be there is missing.",
        "Without it nothing can be done; what it means stands in docs/configuration.md.",
    ),
    story(
        "must-have",
        "A file that must be there is missing.",
        "Somebody wrote down that the build is not whole without it.",
    ),
    story(
        "must-mention",
        "A text that must be in it is not.",
        "Somebody wrote down that this edition is wrong without it.",
    ),
    story(
        "must-not-mention",
        "A text is in it that must not be.",
        "Mostly it is the address or handle of another edition.",
    ),
    story(
        "name",
        "A name cannot be used on every system.",
        "Control characters, separators and bytes that are no text mean different things on different systems.",
    ),
    story(
        "new-glibc",
        "It needs a newer C library than many systems have.",
        "A program starts on the system it was built on and on newer ones, not on older.",
    ),
    story(
        "new-system",
        "It needs a newer system than many players have, or than it says.",
        "A bundle that promises more than its program can do is started there, and ends at once.",
    ),
    story(
        "no-handle",
        "A depot has no name at the place.",
        "A place knows depots by its own names, and none can be guessed from ours.",
    ),
    story("no-icon", "There is no icon.", "Players see the sign for unknown programs."),
    story("no-number", "The package has no number.", "A device takes a newer package by its number alone."),
    story(
        "no-profile",
        "There is no profile in it.",
        "A profile says which game may be installed where, and what it may do. No phone takes a package without one, and no Mac starts a signed program that asks for more than everybody may.",
    ),
    story(
        "no-start",
        "It is not clear what starts the game.",
        "One program at the top is taken by itself; none or several are a question.",
    ),
    story("no-target", "There is nothing to take in.", "A target is an export that becomes a part of the game."),
    story(
        "not-a-build",
        "The export is something that a build is made from, or that sets one up.",
        "Players get files as they are: nobody builds or sets anything up on their computer.",
    ),
    story(
        "not-a-package",
        "A build for a phone must be a package.",
        "Devices take one file, made by the engine for them.",
    ),
    story("not-a-program", "What should start the game is no program.", "It would be installed, and do nothing."),
    story(
        "not-remembered",
        "What was looked at could not be written down.",
        "Nothing is lost: the next check reads the files again, and takes longer.",
    ),
    story("not-toml", "The file is not TOML.", "Nothing in it can be understood before that is mended."),
    story("not-utf8", "The file is no text in UTF-8.", "Every program must read the same in it."),
    story(
        "now-empty",
        "A file that held something is empty now.",
        "A disk that was full or a program that was ended leaves such files.",
    ),
    story(
        "number-differs",
        "The build has another number inside than its release gets.",
        "Devices and stores go by the number inside; the board and the history go by that of the release. They must be one.",
    ),
    story(
        "number-not-risen",
        "The package has no higher number inside than the last release.",
        "A device takes an update by this number alone. With a lower one it refuses it, and with the same one shops do.",
    ),
    story(
        "only-32-bit",
        "Programs or native libraries are for 32 bits alone.",
        "Shops demand those for 64 bits, and newer devices start nothing else.",
    ),
    story(
        "other-edition",
        "The build has the identity of another edition.",
        "Players of the demo would get the game, or the other way round.",
    ),
    story(
        "other-edition-named",
        "A file names another edition, as systems or places know it.",
        "Mostly a setting of the other edition came along: links, purchases and scores would go there.",
    ),
    story(
        "other-loader",
        "What loads the program is not there on most systems.",
        "Systems for servers and for building have loaders of their own; on a player's desktop the program is not found, although it is there.",
    ),
    story(
        "other-signer",
        "Something in the bundle is signed by another team than the bundle.",
        "With the hardened runtime, and on every phone, it is not loaded: the game ends when it starts.",
    ),
    story(
        "package",
        "The package is not what its name says.",
        "The manifest or property list that every such package has is missing in it.",
    ),
    story(
        "packed-library",
        "A native library is compressed where it must not be.",
        "It is loaded from the package itself: the device could not start it.",
    ),
    story(
        "packed-resources",
        "The table of resources is compressed, or lies where it cannot be mapped.",
        "Devices since 2020 refuse such a package when it is made for them.",
    ),
    story(
        "page-broken",
        "The start page refers to files that are not there.",
        "Players would see a page that does not load.",
    ),
    story(
        "past-unread",
        "The releases before could not be read.",
        "What is different from them could not be looked for.",
    ),
    story(
        "pattern-unused",
        "A pattern means nothing in the export.",
        "Mostly a file was renamed, and now goes where the pattern should have kept it from.",
    ),
    story(
        "placeholder",
        "A placeholder was never filled in.",
        "It would have come back as an error of a storefront, after an hour of upload.",
    ),
    story(
        "profile",
        "The profile and the program do not go together.",
        "A device holds one against the other before it installs or starts anything. It says no more than that it could not.",
    ),
    story(
        "profile-reach",
        "The profile is for some devices alone.",
        "That is right for those who try the game out, and nothing for the shop.",
    ),
    story(
        "reserved-name",
        "The export holds files of Lantern's own.",
        "Installed copies keep their state under names that start with .lantern: no build may bring such files, in no spelling.",
    ),
    story(
        "same-name",
        "Names are one name where letter case does not count.",
        "On Windows and macOS one of the files would overwrite the other.",
    ),
    story(
        "same-system",
        "Two targets of one edition are for one system.",
        "A player's computer takes the first of them, and nobody can tell the two apart on the board.",
    ),
    story(
        "scheme-missing",
        "A signature is missing that devices it is for demand.",
        "Old devices know the first scheme alone, new ones refuse it by itself. With both everybody can install the game.",
    ),
    story(
        "search-path",
        "It looks for libraries in folders of the computer that built it.",
        "On a player's computer there is nothing, or something of somebody else.",
    ),
    story(
        "secret",
        "A secret is in it.",
        "Everybody who downloads the game has it from then on; take it out, and change it wherever it was used.",
    ),
    story(
        "set-up-program",
        "What starts is a program that sets the game up, by its name or by what it says of itself.",
        "Players would start it again and again, and have the game twice; an update would not reach what it wrote.",
    ),
    story(
        "signature-broken",
        "The signature does not hold.",
        "Something was changed after it was signed: systems refuse to start it.",
    ),
    story("simulator-build", "It is for the simulator.", "It starts on developers' computers alone."),
    story("size-jump", "The size has jumped.", "Mostly something came in that should not, or something is missing."),
    story("small-icon", "The icon is small.", "Systems show it large, and it is blurred there."),
    story("source-files", "Sources are in it.", "Players do not need them, and some are not yours to give away."),
    story(
        "sparse-file",
        "Most of a file was never written.",
        "An engine that was ended early leaves files of the right length and no content.",
    ),
    story(
        "special-file",
        "Something is neither a file nor a folder nor a link.",
        "Pipes, sockets and devices mean nothing on a player's computer.",
    ),
    story("start-aside", "What starts the game is kept aside.", "Players would get everything but the program."),
    story(
        "start-case",
        "What starts the game has another letter case.",
        "It starts where it was built, and on no computer where letter case counts.",
    ),
    story(
        "start-conditional",
        "What starts the game is in a depot that not everybody downloads.",
        "Some players would have a game that does not start.",
    ),
    story(
        "start-folder",
        "The folder that the game works in is not there.",
        "It would start, and find none of its files.",
    ),
    story(
        "start-missing",
        "What starts the game is not there.",
        "Mostly it lies in another folder, or the export is of another system.",
    ),
    story(
        "store-damaged",
        "Files of the store are damaged.",
        "A disk that loses bytes loses more: what is damaged is never sent or copied on, and earlier releases may need it.",
    ),
    story(
        "target-unchanged",
        "A target is as it was, although others changed.",
        "Mostly it was not exported again: its players would get a new version with the old content.",
    ),
    story("test-only", "The package is marked as for tests.", "Shops and devices refuse it."),
    story(
        "ticket",
        "The ticket of the notary service is for another build.",
        "It names the programs that were looked at by their hashes. Signed anew, they are others: a computer without a network warns of the game.",
    ),
    story(
        "too-large",
        "A file is larger than any real one.",
        "Mostly it is a disk image, or a log that was never ended.",
    ),
    story("too-many", "There are more slips than anybody reads.", "Mostly something else was saved under this name."),
    story("twice", "One thing stands twice.", "One of the two is a slip."),
    story(
        "unaligned-library",
        "A native library does not lie at a multiple of 16 KB.",
        "Devices with large pages cannot load it from the package.",
    ),
    story(
        "unknown-code",
        "A finding is accepted that does not exist.",
        "A code that is written wrongly accepts nothing, and looks as if it did.",
    ),
    story(
        "unknown-depot",
        "A storefront has a handle for a depot that there is not.",
        "The depot was renamed, or the name is misspelt: players would lack it there.",
    ),
    story(
        "unknown-edition",
        "There is no edition of this name.",
        "A name that is written wrongly would quietly make a thing of its own.",
    ),
    story(
        "unknown-key",
        "There is no key of this name.",
        "A key that is written wrongly does nothing, and looks as if it did.",
    ),
    story(
        "unknown-target",
        "There is no target of this name.",
        "A name that is written wrongly would quietly mean nothing.",
    ),
    story("unreadable", "Something cannot be read.", "What cannot be read cannot be sent."),
    story("unsigned", "It is not signed.", "Systems warn of it, or do not start it."),
    story(
        "version-behind",
        "The version is older than one that somebody has.",
        "Players would see a lower number than they have, and so would you when they report something.",
    ),
    story(
        "version-differs",
        "The build has another version inside than the release gets.",
        "Players see the one in the build, you talk about the other. A file that was not exported again shows itself like this.",
    ),
    story(
        "version-same",
        "Something else is given under a version that somebody has.",
        "The number behind it tells the two apart; whoever sees the version alone cannot.",
    ),
    story(
        "web-packed",
        "A file is there in compressed form alone.",
        "A browser unpacks it when the place says how it is packed. A place that does not know sends bytes that nobody understands.",
    ),
    story(
        "windows-links",
        "An export for Windows has symbolic links in it.",
        "Windows makes them only for administrators and in developer mode: other players could not install the game.",
    ),
    story(
        "windows-name",
        "Windows refuses a name.",
        "Some words, endings and characters are its own; the file could not be installed there.",
    ),
    story(
        "withdrawn-before",
        "The exports are exactly a release that was withdrawn.",
        "What was taken away for a reason would go out once more.",
    ),
    story(
        "wrong-address",
        "The address is none that can be used.",
        "Plain HTTP goes to this computer alone: a secret must not cross a network in the open.",
    ),
    story("wrong-pattern", "A pattern is none.", "What it was to mean is not known."),
    story("wrong-shape", "The values do not fit together.", "What was meant is not known."),
    story(
        "wrong-system",
        "It is for another system or processor than stated.",
        "It would be installed, and not start.",
    ),
    story(
        "wrong-type",
        "A value is of another kind than it must be.",
        "A number where a text belongs, or a list where there is room for one.",
    ),
    story(
        "wrong-value",
        "A value is none that can stand there.",
        "The rule is in the sentence; where it comes from stands in docs/configuration.md.",
    ),
    story("wrong-version", "The version file holds no version.", "It must hold the version and nothing else."),
];

/// What says that nothing can be made of a configuration or an export as it is. Nobody can accept that.
const NEVER_ACCEPTED: &[&str] = &[
    "archive",
    "archive-twice",
    "backslash",
    "below-a-file",
    "bundle-split",
    "depot-elsewhere",
    "depot-empty",
    "depot-nowhere",
    "depot-twice",
    "depots-collide",
    "edition-full",
    "empty",
    "export-empty",
    "export-form",
    "export-missing",
    "export-root",
    "handle-twice",
    "in-no-depot",
    "in-two-depots",
    "link-leaves",
    "missing-key",
    "must-have",
    "no-handle",
    "no-start",
    "no-target",
    "not-a-build",
    "not-a-package",
    "not-toml",
    "not-utf8",
    "same-name",
    "special-file",
    "start-aside",
    "start-case",
    "start-conditional",
    "start-folder",
    "start-missing",
    "too-large",
    "too-many",
    "twice",
    "unknown-code",
    "unknown-depot",
    "unknown-edition",
    "unknown-key",
    "unknown-target",
    "unreadable",
    "windows-name",
    "wrong-address",
    "wrong-pattern",
    "wrong-shape",
    "wrong-type",
    "wrong-value",
    "wrong-version",
];

/// Whether a finding of this code may be accepted in the configuration.
pub fn can_be_accepted(code: &str) -> bool {
    !NEVER_ACCEPTED.contains(&code)
}

/// Returns the code that somebody may have meant.
pub fn nearest(code: &str) -> Option<&'static str> {
    crate::names::nearest(code, ALL.iter().map(|story| story.code))
}

/// Returns the story of a code.
pub fn of(code: &str) -> Option<&'static Story> {
    ALL.binary_search_by(|story| story.code.cmp(code)).ok().and_then(|at| ALL.get(at))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_is_found() {
        for story in ALL {
            assert_eq!(of(story.code), Some(story));
            assert!(story.what.ends_with('.') && story.why.ends_with('.'), "{}", story.code);
        }
        assert_eq!(of("nothing"), None);
    }
}
