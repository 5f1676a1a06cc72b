//! What keys do.

use super::board::Board;
use crate::render::{self, Screen};
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use tipstaff_app::watch::{Filter, Watching};

/// What is to be done beyond the board.
pub(super) enum Wish {
    /// Nothing.
    None,
    /// It is over.
    End,
    /// This text is to be in the terminal's clipboard.
    Copy(String),
}

/// A page of the stream.
const PAGE: isize = 10;
/// The keys, for people.
const HELP: &str = "\
Type to filter: /            such as: port 22 from stacks denied
Hold, and go on: space       what comes meanwhile is kept
Choose one: up, down, page up, page down, home; end lets go
How it came about: Enter     the path of the decision, by the policy
Copy the command that would admit it: a
Copy the command that would turn its sender away for good: t
End: q
";

/// Does what a key is for.
pub(super) fn press(
    key: KeyEvent,
    board: &mut Board,
    watching: &Watching,
    screen: &Screen,
) -> Wish {
    let control = key.modifiers.contains(KeyModifiers::CONTROL);
    if control && matches!(key.code, KeyCode::Char('c' | 'd')) {
        return Wish::End;
    }
    board.said = None;
    if board.typing {
        typed(key, board, watching);
        return Wish::None;
    }
    if let Some((text, from)) = &mut board.over {
        let lines = text.lines().count();
        match key.code {
            KeyCode::Down | KeyCode::Char('j') => *from = (*from + 1).min(lines.saturating_sub(1)),
            KeyCode::PageDown => *from = (*from + 10).min(lines.saturating_sub(1)),
            KeyCode::Up | KeyCode::Char('k') => *from = from.saturating_sub(1),
            KeyCode::PageUp => *from = from.saturating_sub(10),
            _ => board.over = None,
        }
        return Wish::None;
    }
    match key.code {
        KeyCode::Char('q') => return Wish::End,
        KeyCode::Char('/') => board.typing = true,
        KeyCode::Char(' ') => board.hold(),
        KeyCode::Char('?' | 'h') => board.over = Some((HELP.to_owned(), 0)),
        KeyCode::Up | KeyCode::Char('k') => board.choose(-1),
        KeyCode::Down | KeyCode::Char('j') => board.choose(1),
        KeyCode::PageUp => board.choose(-PAGE),
        KeyCode::PageDown => board.choose(PAGE),
        KeyCode::Home => board.choose(isize::MIN + 1),
        KeyCode::End | KeyCode::Esc => board.chosen = None,
        KeyCode::Enter => explain(board, watching, screen),
        KeyCode::Char('a') => return copy(board, watching, screen, true),
        KeyCode::Char('t') => return copy(board, watching, screen, false),
        _ => {}
    }
    Wish::None
}

fn typed(key: KeyEvent, board: &mut Board, watching: &Watching) {
    match key.code {
        KeyCode::Esc => {
            board.typing = false;
            board.typed.clear();
        }
        KeyCode::Enter => board.typing = false,
        KeyCode::Backspace => {
            board.typed.pop();
        }
        KeyCode::Char(char) => board.typed.push(char),
        _ => return,
    }
    // While it is typed, what is not whole yet leaves all as it was.
    match Filter::parse(&board.typed, watching.loaded.as_ref()) {
        Ok(filter) => {
            board.wrong = None;
            board.narrow(filter);
        }
        Err(failure) => board.wrong = Some(failure.line()),
    }
}

fn explain(board: &mut Board, watching: &Watching, screen: &Screen) {
    let Some(decision) = board.chosen() else {
        board.said = Some("choose a decision with the arrow keys".into());
        return;
    };
    let text = match watching.path(decision) {
        Some(path) => render::ask(&path, &screen.plain()),
        None => "There is no policy to ask; --policy names it.\n".to_owned(),
    };
    board.over = Some((text, 0));
}

fn copy(board: &mut Board, watching: &Watching, screen: &Screen, admit: bool) -> Wish {
    let Some(decision) = board.chosen() else {
        board.said = Some("choose a decision with the arrow keys".into());
        return Wish::None;
    };
    let (to_admit, to_turn_away) = watching.advice(decision);
    match if admit { to_admit } else { to_turn_away } {
        Some(command) => {
            let said = format!("copied: {command}");
            if said.chars().count() > screen.width {
                let text = format!("Copied, if the terminal lets us:\n\n{command}\n");
                board.over = Some((text, 0));
            } else {
                board.said = Some(said);
            }
            Wish::Copy(command)
        }
        None => {
            let what = if admit { "admit just this" } else { "turn just its sender away" };
            board.said = Some(format!("there is no command that would {what}"));
            Wish::None
        }
    }
}
