//! What happens when someone asks the program to end.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use crate::diagnostic::CommandError;
use crate::ui::Ui;

/// How long work that was asked to stop may take until it is safe; then the program ends all the same.
const STOP_WITHIN: Duration = Duration::from_millis(800);

/// Waits until someone asks the program to end: Ctrl-C, or the system because a terminal is closed, a build machine cancels,
/// or the computer is shut down.
#[cfg(unix)]
async fn asked_to_end() -> std::io::Result<()> {
    use tokio::signal::unix::{SignalKind, signal};
    let (mut terminate, mut hang_up) = (signal(SignalKind::terminate())?, signal(SignalKind::hangup())?);
    tokio::select! {
        done = tokio::signal::ctrl_c() => done,
        _ = terminate.recv() => Ok(()),
        _ = hang_up.recv() => Ok(()),
    }
}

#[cfg(windows)]
async fn asked_to_end() -> std::io::Result<()> {
    use tokio::signal::windows::{ctrl_break, ctrl_close, ctrl_logoff, ctrl_shutdown};
    let (mut stop, mut close) = (ctrl_break()?, ctrl_close()?);
    let (mut logoff, mut shutdown) = (ctrl_logoff()?, ctrl_shutdown()?);
    tokio::select! {
        done = tokio::signal::ctrl_c() => done,
        _ = stop.recv() => Ok(()),
        _ = close.recv() => Ok(()),
        _ = logoff.recv() => Ok(()),
        _ = shutdown.recv() => Ok(()),
    }
}

/// Waits until no program runs any more that this one started.
async fn programs_ended() {
    while lantern_program::is_running() {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// The first Ctrl-C asks the work to stop where it is tidy. A request that hangs or a prompt does not hear that: a
/// little later the program ends anyway, which is safe at any point. The second Ctrl-C ends it at once. A program that
/// this one started has longer: it is ended first.
pub fn listen(stop: Arc<AtomicBool>, ui: Ui) {
    std::thread::spawn(move || {
        let Ok(runtime) = tokio::runtime::Builder::new_current_thread().enable_io().enable_time().build() else {
            return;
        };
        runtime.block_on(async {
            if asked_to_end().await.is_err() {
                return;
            }
            stop.store(true, Ordering::Relaxed);
            tokio::select! {
                _ = asked_to_end() => lantern_program::end_at_once(),
                () = tokio::time::sleep(STOP_WITHIN) => {}
            }
            if lantern_program::is_running() {
                ui.aside("waiting for the program that was started; Ctrl-C once more ends it at once");
                tokio::select! {
                    _ = asked_to_end() => lantern_program::end_at_once(),
                    () = programs_ended() => {}
                }
                // The command itself says what came of it.
                programs_ended().await;
                tokio::time::sleep(STOP_WITHIN).await;
            }
            let error = CommandError::stopped();
            error.print(&ui);
            std::process::exit(i32::from(error.exit_code()));
        });
    });
}
