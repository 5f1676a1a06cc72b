//! The full screen.

use super::alarm::Alarm;
use super::board::Board;
use super::draw::draw;
use super::keys::{Wish, press};
use crate::render::Screen;
use ratatui::crossterm::event::{self, Event};
use std::io::Write;
use std::time::{Duration, Instant};
use tipstaff_app::Failure;
use tipstaff_app::watch::{Filter, Watching};

/// It is drawn no more often than this.
const FRAME: Duration = Duration::from_millis(50);
/// So often it is asked how many decisions came too fast.
const ASK_EVERY: Duration = Duration::from_secs(1);
/// How long the text for the clipboard may be: terminals take no more.
const CLIPBOARD: usize = 4_096;

/// Shows decisions until somebody ends it.
///
/// # Errors
/// [`Failure`] if the terminal or the kernel fails.
pub fn show(
    watching: &mut Watching,
    (typed, filter): (String, Filter),
    screen: &Screen,
    alarm: &mut Alarm,
) -> Result<(), Failure> {
    let mut terminal = ratatui::try_init().map_err(|error| broken(&error))?;
    let done = go(watching, (typed, filter), screen, alarm, &mut terminal);
    ratatui::restore();
    done
}

fn go(
    watching: &mut Watching,
    (typed, filter): (String, Filter),
    screen: &Screen,
    alarm: &mut Alarm,
    terminal: &mut ratatui::DefaultTerminal,
) -> Result<(), Failure> {
    let mut board = Board::new(watching.host.clone(), typed, filter, Instant::now());
    let without = watching.without_policy.as_ref().map(|why| format!("no policy: {why}"));
    board.said = watching.remark.clone().or(without);
    let (mut drawn, mut asked) = (None::<Instant>, Instant::now());
    loop {
        let mut decisions = watching.next(FRAME)?;
        if asked.elapsed() >= ASK_EVERY {
            asked = Instant::now();
            let (losses, more) = watching.losses()?;
            board.losses = losses;
            decisions.extend(more);
        }
        for decision in decisions {
            if board.takes(&decision) {
                alarm.ring(&decision);
            }
            board.add(decision);
        }
        board.rates.go_on(Instant::now());
        while event::poll(Duration::ZERO).map_err(|error| broken(&error))? {
            let Event::Key(key) = event::read().map_err(|error| broken(&error))? else { continue };
            if key.is_release() {
                continue;
            }
            match press(key, &mut board, watching, screen) {
                Wish::End => return Ok(()),
                Wish::Copy(text) => copy(&text).map_err(|error| broken(&error))?,
                Wish::None => {}
            }
        }
        if drawn.is_none_or(|it| it.elapsed() >= FRAME) {
            drawn = Some(Instant::now());
            terminal.draw(|frame| draw(frame, &board, screen)).map_err(|error| broken(&error))?;
        }
    }
}

/// Has the terminal take a text into its clipboard (OSC 52 of xterm's control sequences).
fn copy(text: &str) -> std::io::Result<()> {
    if text.len() > CLIPBOARD {
        return Ok(());
    }
    let mut out = std::io::stdout().lock();
    write!(out, "\x1b]52;c;{}\x07", base64(text.as_bytes()))?;
    out.flush()
}

/// RFC 4648 section 4.
fn base64(bytes: &[u8]) -> String {
    const SIGNS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let mut text = String::new();
    for part in bytes.chunks(3) {
        let word = part.iter().fold(0_usize, |word, byte| word << 8 | usize::from(*byte));
        let word = word << (8 * (3 - part.len()));
        for at in 0..4 {
            let sign = SIGNS[word >> (18 - 6 * at) & 63];
            text.push(if at <= part.len() { char::from(sign) } else { '=' });
        }
    }
    text
}

fn broken(error: &std::io::Error) -> Failure {
    Failure::System {
        message: format!("the terminal cannot be used: {error}"),
        help: vec!["`--lines` prints a line for each decision".into()],
    }
}

#[cfg(test)]
mod tests {
    use super::base64;

    #[test]
    fn texts_are_encoded_as_the_standard_says() {
        // RFC 4648 section 10.
        for (text, encoded) in [
            ("", ""),
            ("f", "Zg=="),
            ("fo", "Zm8="),
            ("foo", "Zm9v"),
            ("foob", "Zm9vYg=="),
            ("foobar", "Zm9vYmFy"),
        ] {
            assert_eq!(base64(text.as_bytes()), encoded);
        }
    }
}
