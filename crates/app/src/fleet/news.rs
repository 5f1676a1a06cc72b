//! What a carrier tells by itself of what is new.

use super::carrier::Told;
use super::carriers::CarrierName;
use super::spread::spread;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::Duration;

/// Where it cannot be listened to, it is tried again after so long, and up to a quarter more.
const AGAIN: Duration = Duration::from_secs(10);

/// What a carrier tells by itself: somebody listens in a thread, as long as this is there.
#[derive(Debug)]
pub(super) struct News {
    told: Receiver<Vec<Told>>,
    listens: Arc<AtomicBool>,
    over: Arc<AtomicBool>,
}

impl Drop for News {
    fn drop(&mut self) {
        self.over.store(true, Ordering::Relaxed);
    }
}

impl News {
    /// Of that carrier.
    pub(super) fn of(carrier: CarrierName) -> Self {
        let (tell, told) = channel();
        let listens = Arc::new(AtomicBool::new(false));
        let over = Arc::new(AtomicBool::new(false));
        let (is_heard, is_over) = (Arc::clone(&listens), Arc::clone(&over));
        std::thread::spawn(move || {
            let mut waiting = None;
            while !is_over.load(Ordering::Relaxed) {
                if waiting.is_none() {
                    match carrier.open().map(|it| it.waiting()) {
                        // One that has to be looked at.
                        Ok(None) => return,
                        Ok(found) => waiting = found,
                        Err(_) => {}
                    }
                }
                let heard = waiting.as_mut().and_then(|it| it.wait(&is_over).ok());
                is_heard.store(heard.is_some(), Ordering::Relaxed);
                match heard.map(|it| tell.send(it)) {
                    None => std::thread::sleep(AGAIN + spread(AGAIN)),
                    Some(Ok(())) => {}
                    Some(Err(_)) => return,
                }
            }
        });
        Self { told, listens, over }
    }

    /// What is told within that time; nothing: it has to be looked.
    pub(super) fn within(&self, most: Duration) -> Option<Vec<Told>> {
        match self.told.recv_timeout(most) {
            Ok(told) => Some(told),
            Err(RecvTimeoutError::Timeout) => None,
            // Nobody listens.
            Err(RecvTimeoutError::Disconnected) => {
                std::thread::sleep(most);
                None
            }
        }
    }

    /// Whether it does not tell just now.
    pub(super) fn must_ask(&self) -> bool {
        !self.listens.load(Ordering::Relaxed)
    }
}
