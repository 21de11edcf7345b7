use garden_gate::Session;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// Loads that are done sooner show no bar.
const SHORT: Duration = Duration::from_millis(500);

/// Draws a bar on the terminal while a large file is read.
pub(crate) fn show(session: &mut Session) {
    let known: Mutex<Option<(Instant, ProgressBar)>> = Mutex::new(None);
    session.on_progress(move |progress| {
        let Ok(mut known) = known.lock() else { return };
        if progress.read >= progress.bytes {
            if let Some((_, bar)) = known.take() {
                bar.finish_and_clear();
            }
            return;
        }
        let (since, bar) = known.get_or_insert_with(|| (Instant::now(), bar(progress.bytes)));
        if since.elapsed() >= SHORT {
            bar.set_draw_target(ProgressDrawTarget::stderr());
            bar.set_message(format!("{} rows", progress.rows));
            bar.set_position(progress.read);
        }
    });
}

fn bar(bytes: u64) -> ProgressBar {
    let style = ProgressStyle::with_template("{bar:30} {bytes} of {total_bytes}, {msg}, {eta} left");
    let bar = ProgressBar::with_draw_target(Some(bytes), ProgressDrawTarget::hidden());
    match style {
        Ok(style) => bar.with_style(style),
        Err(_) => bar,
    }
}
