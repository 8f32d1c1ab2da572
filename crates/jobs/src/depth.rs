//! How deep lists and tables of TOML lie within each other.
//!
//! The parser of TOML minds its depth only as long as it has met no error; after one it goes down with every bracket, and a file that
//! somebody else has written could exhaust the stack. So brackets are counted before it begins, as its own lexer finds them.

use toml_parser::Source;
use toml_parser::lexer::TokenKind;

/// Deeper than anything that is meant.
const DEEPEST: usize = 64;

/// Where, in bytes, a text goes too deep.
pub(crate) fn too_deep_at(text: &str) -> Option<usize> {
    let mut open = Vec::new();
    Source::new(text).lex().find_map(|token| {
        match token.kind() {
            TokenKind::LeftSquareBracket => open.push(TokenKind::RightSquareBracket),
            TokenKind::LeftCurlyBracket => open.push(TokenKind::RightCurlyBracket),
            // What closes nothing is an error, and the parser stays where it is.
            closing if open.last() == Some(&closing) => drop(open.pop()),
            _ => {}
        }
        (open.len() > DEEPEST).then(|| token.span().start())
    })
}
