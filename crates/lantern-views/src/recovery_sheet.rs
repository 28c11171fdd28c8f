//! A recovery sheet as a page to print: black on white, with nothing loaded from anywhere. docs/formats/recovery-sheets.md has the
//! format of what is on it.

use jiff::Timestamp;
use lantern_core::bytes::hex;
use lantern_core::config::Config;
use lantern_core::pins::Fingerprint;
use lantern_keys::keyring::Facts;
use lantern_keys::sheets::{Set, Share};
use qrcode::types::QrError;
use qrcode::{Color, EcLevel, QrCode};
use zeroize::Zeroizing;

use crate::format;
use crate::html::escaped;

/// Modules of white around a code. Source: ISO/IEC 18004, section 9.1.
const QUIET: usize = 4;
/// Words in one row.
const WORDS_IN_ROW: usize = 4;

const STYLE: &str = "
@page { size: A4; margin: 14mm }
* { box-sizing: border-box }
body { font: 11pt/1.4 system-ui, sans-serif; color: #000; background: #fff; max-width: 182mm; margin: 0 auto; padding: 4mm 0 }
h1 { font-size: 20pt; margin: 0 } h2 { font-size: 13pt; margin: 7mm 0 2mm; break-after: avoid }
p { margin: 1.5mm 0 } .lead { font-size: 12.5pt; margin-bottom: 4mm }
table { border-collapse: collapse } td { padding: .4mm 5mm .4mm 0; vertical-align: top }
td:first-child { white-space: nowrap } .mono { font-family: ui-monospace, monospace; overflow-wrap: anywhere }
.share { display: flex; gap: 3mm; align-items: flex-start; border: .5mm solid #000; padding: 4mm; break-inside: avoid }
.share svg { width: 52mm; flex: none } .share table { width: 100%; font-size: 10.5pt } .share td { padding: .7mm 1mm .7mm 0; white-space: nowrap }
.share small { display: inline-block; width: 1.6em; text-align: right; margin-right: .4em }
.codes { display: flex; flex-wrap: wrap; gap: 4mm } figure { margin: 0; width: calc(50% - 2mm); break-inside: avoid }
figure svg { width: 100% } figcaption { font-size: 9.5pt }
pre { border: .25mm solid #000; padding: 2.5mm; font: 9pt/1.3 ui-monospace, monospace; white-space: pre-wrap; break-inside: avoid }
ol { margin: 1mm 0; padding-left: 6mm } li { margin: 1mm 0 } .next { break-before: page }
@media screen { body { padding: 8mm } }
";

/// Puts shares together with nothing but Python: what stands on each sheet, and is run by a test.
pub const COMBINE: &str = r#"# One line for each sheet: its number, a space, its share. Then Ctrl-D.
import sys
shares = {int(n): bytes.fromhex(s) for n, s in (line.split() for line in sys.stdin)}
def times(a, b):
    out = 0
    while b:
        out ^= a * (b & 1)
        a, b = a << 1 ^ (a >> 7) * 0x11d, b >> 1
    return out
def inverse(a):
    return next(b for b in range(256) if times(a, b) == 1)
out = bytearray(32)
for n, share in shares.items():
    factor = 1
    for m in shares:
        if m != n:
            factor = times(factor, times(m, inverse(m ^ n)))
    for at in range(32):
        out[at] ^= times(factor, share[at])
print(out.hex())
"#;

/// A code as a picture of lines that is as sharp as the printer.
fn code(text: &str) -> Result<String, QrError> {
    let code = QrCode::with_error_correction_level(text, EcLevel::M)?;
    let (width, side) = (code.width(), code.width() + 2 * QUIET);
    let mut path = String::new();
    for (row, colors) in code.to_colors().chunks(width).enumerate() {
        let mut from = 0;
        while from < width {
            let len = colors.iter().skip(from).take_while(|color| **color == Color::Dark).count();
            if len > 0 {
                path += &format!("M{} {}h{len}v1h-{len}z", from + QUIET, row + QUIET);
            }
            from += len.max(1);
        }
    }
    Ok(format!(
        "<svg viewBox=\"0 0 {side} {side}\" shape-rendering=\"crispEdges\" role=\"img\">\
         <rect width=\"{side}\" height=\"{side}\" fill=\"#fff\"/><path d=\"{path}\"/></svg>"
    ))
}

/// The page of one sheet; `config` is the project's, where there is one: it says what the key is for.
///
/// # Errors
/// [`QrError`] where something is too long for a code, which nothing here is.
pub fn page(
    set: &Set,
    share: &Share,
    facts: &Facts,
    config: Option<&Config>,
    now: Timestamp,
) -> Result<Zeroizing<String>, QrError> {
    let (name, of, needed) = (escaped(facts.name.as_str()), set.shares.len(), set.needed);
    let (place, set_name) = (share.place, &set.name);
    let title = format!("Recovery sheet {place} of {of} for the key {name}");
    let mut out = Zeroizing::new(format!(
        "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n\
         <meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'\">\n\
         <title>{title}</title>\n<style>{STYLE}</style>\n<body>\n<h1>Recovery sheet {place} of {of}</h1>\n\
         <p class=\"lead\">Any {needed} of these {of} sheets bring the signing key <b>{name}</b> back. Fewer say nothing about it.</p>\n"
    ));
    let games = games(facts, config);
    let what = match games.is_empty() {
        true => "updates of a game are signed with it".to_owned(),
        false => format!("updates of {} are signed with it", escaped(&games.join(" and "))),
    };
    out.push_str(&format!(
        "<p>What the key is for: {what}. If it is lost, no player&#39;s device will ever take an update again. If someone else puts {needed} sheets \
         together, they can sign in your name: no passphrase is needed. Keep this sheet apart from the others, dry and dark, \
         and tell nobody who does not have to know.</p>\n"
    ));
    let rows = [
        ("set", format!("{set_name}, made on {}", format::day(now))),
        ("kind", escaped(&facts.algorithm)),
        ("owner", escaped(&facts.certificate.subject)),
        ("certificate", format!("until {}", format::day(facts.certificate.valid.1))),
        ("SHA-256", format!("<span class=\"mono\">{}</span>", hex(&facts.certificate.sha256))),
    ];
    out.push_str("<table>\n");
    for (label, says) in rows {
        out.push_str(&format!("<tr><td>{label}</td><td>{says}</td></tr>\n"));
    }
    out.push_str("</table>\n<h2>This sheet&#39;s share</h2>\n<div class=\"share\">\n");
    out.push_str(&code(&share.line())?);
    out.push_str("\n<table>\n");
    let words = share.words();
    for (row, words) in words.chunks(WORDS_IN_ROW).enumerate() {
        out.push_str("<tr>");
        for (at, word) in (row * WORDS_IN_ROW + 1..).zip(words) {
            out.push_str(&format!("<td><small>{at}</small>{word}</td>"));
        }
        out.push_str("</tr>\n");
    }
    out.push_str("</table>\n</div>\n");
    out.push_str(&format!(
        "<p>The code and the {} words say the same. The share alone, in hexadecimal digits, is that of sheet number {place}:</p>\n\
         <p class=\"mono\">{}</p>\n<p class=\"mono\"><small>{}</small></p>\n",
        words.len(),
        *share.digits(),
        *share.line()
    ));
    out.push_str(&bring_back(set, &name));
    out.push_str(
        "<h2 class=\"next\">The encrypted key</h2>\n<p>The same on every sheet of the set, and of no use without the shares: a file of \
         PKCS #12 with the key and its certificate.</p>\n<div class=\"codes\">\n",
    );
    let lines = set.store_lines();
    for (number, line) in (1..).zip(&lines) {
        out.push_str(&format!(
            "<figure data-code=\"{line}\">{}<figcaption>set {set_name}, part {number} of {}</figcaption></figure>\n",
            code(line)?,
            lines.len()
        ));
    }
    out.push_str("</div>\n</body>\n</html>\n");
    Ok(out)
}

/// What a project signs with the key, with the identity.
fn games(facts: &Facts, config: Option<&Config>) -> Vec<String> {
    let Some(config) = config else { return Vec::new() };
    let pins = config.pins.places_of(Fingerprint(facts.certificate.sha256));
    let pinned = pins.map(|(identity, _)| identity.to_string());
    let own = config.targets.values().any(|target| target.sign.as_ref() == Some(&facts.name));
    let mut identities: Vec<String> = pinned.chain(own.then(|| config.game.identity.to_string())).collect();
    identities.sort();
    identities.dedup();
    identities.into_iter().map(|identity| format!("{} ({identity})", config.game.name)).collect()
}

/// How the key is brought back, with lantern and without.
fn bring_back(set: &Set, name: &str) -> String {
    let needed = set.needed;
    format!(
        "<h2>To bring the key back</h2>\n<p><b>With lantern:</b> scan the code of the share on {needed} sheets, and every code of the encrypted key on one of them, with \
         a telephone, or type the words; put what you get into text files, and run:</p>\n\
         <pre>lantern key import {name} sheet-a.txt sheet-b.txt …</pre>\n\
         <h2 class=\"next\">Without lantern</h2>\n<ol>\n<li>Scan the codes of the encrypted key. In each line, what stands between the fifth and the sixth colon is a \
         part of it; put the parts one behind the other into a file <span class=\"mono\">store.txt</span>, and turn it into \
         the file of PKCS #12:\n<pre>python3 -c 'import base64; t = open(\"store.txt\").read().strip(); \
         open(\"store.p12\", \"wb\").write(base64.b32decode(t + \"=\" * (-len(t) % 8)))'</pre></li>\n\
         <li>Put the shares together with this program. It prints the passphrase of that file:\n<pre>{}</pre></li>\n\
         <li>Open the file with it, for instance with\n<pre>openssl pkcs12 -in store.p12 -nodes</pre></li>\n</ol>\n",
        escaped(COMBINE)
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Read by a decoder that has nothing in common with what makes the codes.
    #[test]
    fn codes_are_read_back() {
        for text in ["KL1:SHARE:AB12CD34:3:2:00FF:01234567".to_owned(), format!("KL1:STORE:{}", "A2B7".repeat(300))] {
            let svg = code(&text).unwrap();
            let side: usize = svg.split("viewBox=\"0 0 ").nth(1).unwrap().split(' ').next().unwrap().parse().unwrap();
            let mut dark = vec![false; side * side];
            let path = svg.split("path d=\"").nth(1).unwrap().split('"').next().unwrap();
            for run in path.split('M').skip(1) {
                let numbers: Vec<usize> = run.split([' ', 'h', 'v']).take(3).map(|n| n.parse().unwrap()).collect();
                let [x, y, len] = numbers[..] else { panic!("{run}") };
                dark[y * side + x..y * side + x + len].fill(true);
            }
            // Three points for each module, as a camera would see them.
            let shade = |x: usize, y: usize| if dark[y / 3 * side + x / 3] { 0 } else { 255 };
            let mut image = rqrr::PreparedImage::prepare_from_greyscale(side * 3, side * 3, shade);
            let grids = image.detect_grids();
            assert_eq!(grids.len(), 1);
            assert_eq!(grids[0].decode().unwrap().1, text);
        }
    }
}
