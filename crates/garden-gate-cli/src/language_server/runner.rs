//! Runs what the editor asks to run, beside the answers about texts, and opens what comes back as a document.

use super::lenses::Action;
use super::uri;
use garden_gate::inspect::StepOptions;
use garden_gate::{Interrupt, Outcome, Parameters, ResultSet, Session, SourceText};
use garden_gate_view::{self as view, Look};
use lsp_server::{ErrorCode, Message, Notification, Request, RequestId, Response};
use lsp_types::notification::{Notification as _, ShowMessage};
use lsp_types::request::{Request as _, ShowDocument};
use lsp_types::{MessageType, ShowDocumentParams, ShowMessageParams, Uri};
use serde_json::json;
use std::collections::HashSet;
use std::io;
use std::sync::mpsc::{self, Receiver, Sender};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;

/// Rows of a result that a document shows.
const MOST_ROWS: usize = 1000;
/// Rows of a step that are shown among others.
const STEP_ROWS: usize = 10;
/// Characters of a line of a document.
const WIDTH: usize = 120;

/// What is to be done with a statement or a step of it.
pub(super) struct Job {
    pub(super) id: RequestId,
    pub(super) action: Action,
    pub(super) statement: String,
    pub(super) step: Option<String>,
}

/// What runs, and what was called off before it began.
#[derive(Default)]
struct State {
    current: Option<RequestId>,
    cancelled: HashSet<RequestId>,
}

/// Where messages to the editor go.
pub(super) type Outgoing = crossbeam_channel::Sender<Message>;

/// A thread with a session of its own.
pub(super) struct Runner {
    jobs: Option<Sender<Job>>,
    interrupt: Interrupt,
    state: Arc<Mutex<State>>,
    thread: Option<JoinHandle<()>>,
}

impl Runner {
    /// `changed` is called after each statement that may have changed tables.
    pub(super) fn start(
        mut session: Session,
        parameters: Parameters,
        (outgoing, shows_documents): (Outgoing, bool),
        changed: crossbeam_channel::Sender<()>,
    ) -> io::Result<Self> {
        let (jobs, waiting) = mpsc::channel();
        let state = Arc::<Mutex<State>>::default();
        let folder = tempfile::Builder::new().prefix("garden-gate-").tempdir()?;
        let interrupt = session.interrupt();
        let shared = Arc::clone(&state);
        let worker = move || {
            let worker = Worker { parameters, outgoing, shows_documents, changed, folder };
            worker.work(&mut session, &waiting, &shared);
        };
        let thread = std::thread::Builder::new().name("statements".into()).spawn(worker)?;
        Ok(Self { jobs: Some(jobs), interrupt, state, thread: Some(thread) })
    }

    /// Runs a job after those that wait.
    pub(super) fn run(&self, job: Job) {
        if let Some(jobs) = &self.jobs {
            // The thread lives as long as this does.
            let _ = jobs.send(job);
        }
    }

    /// Ends what a request asked for, or keeps it from beginning.
    pub(super) fn cancel(&self, id: RequestId) {
        lock(&self.state).cancelled.insert(id);
        self.insist();
    }

    /// Interrupts what runs though it was called off, and says whether there is such a thing. A session forgets an interrupt that comes
    /// before its statement has begun, so that one is not always enough.
    pub(super) fn insist(&self) -> bool {
        let state = lock(&self.state);
        let runs = state.current.as_ref().is_some_and(|current| state.cancelled.contains(current));
        if runs {
            self.interrupt.interrupt();
        }
        runs
    }
}

impl Drop for Runner {
    fn drop(&mut self) {
        self.jobs = None;
        self.interrupt.interrupt();
        if let Some(thread) = self.thread.take() {
            // It has said what it had to say.
            let _ = thread.join();
        }
    }
}

fn lock(state: &Mutex<State>) -> MutexGuard<'_, State> {
    state.lock().unwrap_or_else(PoisonError::into_inner)
}

struct Worker {
    parameters: Parameters,
    outgoing: Outgoing,
    shows_documents: bool,
    changed: crossbeam_channel::Sender<()>,
    folder: tempfile::TempDir,
}

impl Worker {
    fn work(&self, session: &mut Session, jobs: &Receiver<Job>, state: &Mutex<State>) {
        for job in jobs {
            {
                let mut state = lock(state);
                if state.cancelled.remove(&job.id) {
                    let code = ErrorCode::RequestCanceled as i32;
                    self.send(Message::Response(Response::new_err(job.id, code, "called off".into())));
                    continue;
                }
                state.current = Some(job.id.clone());
            }
            let text = self.text(session, &job);
            {
                let mut state = lock(state);
                state.current = None;
                state.cancelled.remove(&job.id);
            }
            let response = match self.opened(&job, &text) {
                Ok(uri) => Response::new_ok(job.id, json!({"uri": uri, "text": text})),
                Err(error) => Response::new_err(job.id, ErrorCode::InternalError as i32, error.to_string()),
            };
            self.send(Message::Response(response));
            if job.action == Action::Run {
                // Nobody listens any more when the server is leaving.
                let _ = self.changed.send(());
            }
        }
    }

    fn send(&self, message: Message) {
        // Nobody listens any more when the editor is gone.
        let _ = self.outgoing.send(message);
    }

    /// What comes of a job, headed by what it was.
    fn text(&self, session: &mut Session, job: &Job) -> String {
        let source = SourceText::new(job.statement.as_str());
        let parameters = self.parameters.used_in(&source);
        let look = Look::plain().wide(WIDTH);
        let answer = match (job.action, &job.step) {
            (Action::Run, None) => Ok(run(session, &source, &parameters)),
            (Action::Run, Some(step)) => {
                let options = StepOptions::default().only(step);
                session.steps_with(&source, parameters, &options).map(|steps| view::steps(&steps, MOST_ROWS, look))
            }
            (Action::Plan, None) => session.plan(&source, parameters).map(|plan| view::plan_tree(&plan, look)),
            (Action::Plan, Some(step)) => session.plan_steps(&source, parameters).map(|steps| {
                let found = steps.iter().find(|known| known.name.eq_ignore_ascii_case(step));
                found.map_or_else(String::new, |found| view::plan_tree(&found.plan, look))
            }),
            (Action::Measure, None) => {
                session.measure(&source, parameters).map(|(_, plan)| view::plan_tree(&plan, look))
            }
            (Action::Measure, Some(step)) => {
                session.measure_step(&source, parameters, step).map(|(_, plan)| view::plan_tree(&plan, look))
            }
            (Action::Steps, step) => {
                let options = StepOptions::default();
                let options = step.as_ref().map_or(options.clone(), |step| options.only(step).inside());
                session.steps_with(&source, parameters, &options).map(|steps| view::steps(&steps, STEP_ROWS, look))
            }
        };
        let answer = answer.unwrap_or_else(|error| view::error(&error, look));
        let what = job.step.clone().unwrap_or_else(|| job.statement.split_whitespace().collect::<Vec<_>>().join(" "));
        let short: String = what.chars().take(WIDTH - 20).collect();
        format!("{}: {short}\n\n{answer}", job.action.title())
    }

    /// Writes a text to the document of its action, and has the editor open it.
    fn opened(&self, job: &Job, text: &str) -> io::Result<Uri> {
        let path = self.folder.path().join(format!("{}.txt", job.action.title().to_lowercase()));
        std::fs::write(&path, text)?;
        let uri = uri::of_path(&path).ok_or_else(|| io::Error::other("the folder of results has no name"))?;
        if self.shows_documents {
            let params = ShowDocumentParams {
                uri: uri.clone(),
                external: Some(false),
                take_focus: Some(false),
                selection: None,
            };
            let id = RequestId::from(format!("show {}", job.id));
            self.send(Message::Request(Request::new(id, ShowDocument::METHOD.into(), params)));
        } else {
            let message = format!("{} is in {}", job.action.title(), path.display());
            self.send(Message::Notification(message_of(MessageType::INFO, message)));
        }
        Ok(uri)
    }
}

/// A line that the editor shows.
pub(super) fn message_of(typ: MessageType, message: String) -> Notification {
    Notification::new(ShowMessage::METHOD.into(), ShowMessageParams { typ, message })
}

/// What a statement comes to, its error among it.
fn run(session: &mut Session, source: &Arc<SourceText>, parameters: &Parameters) -> String {
    let look = Look::plain().wide(WIDTH);
    let statements = match session.statements(source, parameters) {
        Ok(statements) => statements,
        Err(error) => return view::error(&error, look),
    };
    let text = |outcome: garden_gate::Result<Outcome>| match outcome {
        Ok(Outcome::Rows(rows)) => rows_of(&rows),
        Ok(Outcome::Changed { what, elapsed, notes, .. } | Outcome::Done { what, elapsed, notes }) => {
            let notes: String = notes.iter().map(|note| view::note(note, look)).collect();
            view::done(&what, elapsed) + &notes
        }
        Ok(_) => String::new(),
        Err(error) => view::error(&error, look),
    };
    statements.map(text).collect()
}

fn rows_of(rows: &ResultSet) -> String {
    let look = Look::plain().wide(WIDTH);
    let notes: String = rows.notes().iter().map(|note| view::note(note, look)).collect();
    let all = rows.row_count();
    if all <= MOST_ROWS {
        return view::table(rows, look) + &notes;
    }
    format!("{}the first {MOST_ROWS} of {all} rows\n{notes}", view::table(&rows.first(MOST_ROWS), look))
}
