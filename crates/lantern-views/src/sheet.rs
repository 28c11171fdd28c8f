//! The steps of an action by hand as one page that needs nothing else: check boxes, and buttons that copy.

use lantern_core::step::Step;
use lantern_project::OpenWalk;

use crate::format;
use crate::html::escaped;
use crate::steps::{action, confirm_command, question};

const STYLE: &str = "
:root { color-scheme: light dark; --ink: #1d2b2a; --paper: #fbfaf6; --line: #c9cfc6; --deep: #20605a; --box: #f0efe8 }
@media (prefers-color-scheme: dark) { :root { --ink: #e6e9e3; --paper: #16201f; --line: #3a4a47; --deep: #7fc4b8; --box: #1f2c2a } }
* { box-sizing: border-box }
body { font: 17px/1.5 system-ui, sans-serif; color: var(--ink); background: var(--paper); max-width: 46rem; margin: 2rem auto; padding: 0 1rem }
h1 { font-size: 1.5rem; margin: 0 0 .3rem } p { margin: .3rem 0 }
ol { list-style: none; padding: 0 } li { border-top: 1px solid var(--line); padding: 1rem 0 1rem 2.4rem; position: relative }
li > input { position: absolute; left: 0; top: 1.25rem; width: 1.3rem; height: 1.3rem; accent-color: var(--deep) }
li:has(> input:checked) > * { opacity: .55 } li > input:checked { opacity: 1 }
label { font-weight: 600; color: var(--deep) }
.who { font-weight: 400; color: var(--ink); opacity: .75 }
.box { display: flex; gap: .6rem; align-items: start; margin: .45rem 0 }
.box > span { min-width: 6.5rem; opacity: .75 }
pre { flex: 1; margin: 0; padding: .35rem .6rem; background: var(--box); border-radius: 4px; white-space: pre-wrap; overflow-wrap: anywhere; font: 15px/1.45 ui-monospace, monospace }
button { font: inherit; font-size: .9rem; min-width: 5rem; padding: .2rem .7rem; border: 1px solid var(--deep); border-radius: 4px; background: none; color: var(--deep); cursor: pointer }
button:focus-visible, input:focus-visible, a:focus-visible { outline: 3px solid var(--deep); outline-offset: 2px }
a { color: var(--deep) } table { border-collapse: collapse; margin: .8rem 0 } td { padding: .1rem 1.2rem .1rem 0; overflow-wrap: anywhere }
@media print { button { display: none } body { margin: 0; max-width: none } }
";

const SCRIPT: &str = "
const kept = 'lantern ' + document.body.dataset.key;
let marks = {};
try { marks = JSON.parse(localStorage.getItem(kept)) || {} } catch { }
for (const box of document.querySelectorAll('li > input')) {
  if (box.id in marks) box.checked = marks[box.id];
  box.addEventListener('change', () => {
    marks[box.id] = box.checked;
    try { localStorage.setItem(kept, JSON.stringify(marks)) } catch { }
  });
}
const select = (node) => {
  const range = document.createRange();
  range.selectNodeContents(node);
  getSelection().removeAllRanges();
  getSelection().addRange(range);
};
for (const button of document.querySelectorAll('button')) {
  button.addEventListener('click', async () => {
    const text = button.previousElementSibling;
    let done = true;
    try { await navigator.clipboard.writeText(text.textContent) } catch {
      select(text);
      done = document.execCommand('copy');
    }
    button.textContent = done ? 'copied' : 'selected';
    setTimeout(() => { button.textContent = 'copy' }, 2000);
  });
}
";

fn to_copy(name: &str, text: &str) -> String {
    let (name, text) = (escaped(name), escaped(text));
    format!(
        "<div class=\"box\"><span>{name}</span><pre>{text}</pre><button type=\"button\" aria-label=\"copy {name}\">copy</button></div>\n"
    )
}

/// Only these open something from a page; any other address is shown as text.
const OPENED: [&str; 3] = ["https://", "http://", "mailto:"];

/// The page.
pub fn page(open: &OpenWalk) -> String {
    let begun = &open.walk.begun;
    let title = escaped(&action(begun));
    let mut out = format!(
        "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width\">\n\
         <meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'\">\n\
         <title>{title}</title>\n<style>{STYLE}</style>\n<body data-key=\"{}\">\n<h1>{}{}</h1>\n",
        begun.key,
        title.chars().take(1).flat_map(char::to_uppercase).collect::<String>(),
        title.chars().skip(1).collect::<String>(),
    );
    out += "<p>The boxes are your own notes. What counts is what is confirmed with the command of each step.</p>\n";
    if !begun.hand_over.is_empty() {
        out += "<table>\n";
        for file in &begun.hand_over {
            out += &format!("<tr><td>{}</td><td>{}</td></tr>\n", escaped(&file.name), format::bytes(file.bytes));
        }
        out += "</table>\n";
    }
    out += "<ol>\n";
    for (number, step) in (1..).zip(&begun.steps) {
        out += &item(open, number, &open.walk.shown(step));
    }
    out += "</ol>\n<script>";
    out += SCRIPT;
    out += "</script>\n</body>\n</html>\n";
    out
}

fn item(open: &OpenWalk, number: usize, step: &Step) -> String {
    let checked = if open.walk.is_settled(&step.id) { " checked" } else { "" };
    let who = step.by.as_ref().map_or(String::new(), |by| format!(" <span class=\"who\">for {}</span>", escaped(by)));
    let id = &step.id;
    let mut out = format!(
        "<li><input type=\"checkbox\" id=\"step-{id}\"{checked}><label for=\"step-{id}\">{number}. {id}{who}</label>\n"
    );
    for line in step.text.lines() {
        out += &format!("<p>{}</p>\n", escaped(line));
    }
    if let Some(address) = &step.open {
        let address = escaped(address);
        out += &match OPENED.iter().any(|scheme| address.starts_with(scheme)) {
            true => format!("<p><a href=\"{address}\" rel=\"noreferrer\">{address}</a></p>\n"),
            false => format!("<p>{address}</p>\n"),
        };
    }
    if let Some(folder) = open.folder.as_ref().filter(|_| step.files) {
        out += &to_copy("folder", &folder.display().to_string());
    }
    for paste in step.paste.iter().filter(|paste| !paste.text.is_empty()) {
        out += &to_copy(&paste.field, &paste.text);
    }
    for back in &step.read_back {
        out += &format!("<p>Note: {}</p>\n", escaped(&question(back)));
    }
    out += &to_copy("then", &confirm_command(&open.walk.begun, step));
    out += "</li>\n";
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_of_a_text_becomes_markup() {
        assert_eq!(escaped("<b a='1'>&\"\u{1b}\n"), "&lt;b a=&#39;1&#39;&gt;&amp;&quot;\u{fffd}\n");
        assert!(!to_copy("a\"b", "</pre><script>").contains("<script"));
    }
}
