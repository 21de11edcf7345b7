//! The Language Server Protocol: an editor sends its texts, and asks what is wrong with them, what can be typed, and what comes of them.

mod answers;
mod document;
mod estimates;
mod lenses;
mod names;
mod place;
mod requests;
mod runner;
mod uri;
mod workspace;

use crate::args::{Common, LanguageServer};
use crate::{CliError, Exit, setup, shell};
use answers::Answers;
use crossbeam_channel::{Receiver, Sender, TryRecvError, after, never, select, unbounded};
use document::Document;
use garden_gate::Session;
use lsp_server::{Connection, Message, Notification};
use lsp_types::notification::{
    Cancel, DidChangeTextDocument, DidChangeWatchedFiles, DidCloseTextDocument, DidOpenTextDocument,
    DidSaveTextDocument, Notification as _, PublishDiagnostics,
};
use lsp_types::{InitializeParams, MessageType, NumberOrString, PublishDiagnosticsParams, Uri};
use runner::Runner;
use serde_json::Value as Json;
use std::collections::{HashMap, VecDeque};
use std::io;
use std::time::{Duration, Instant};
use workspace::Workspace;

/// The texts that are open, by their addresses.
type Documents = HashMap<String, Document>;

/// How long to wait before an interrupt is repeated.
const INSISTENCE: Duration = Duration::from_millis(20);

/// Serves an editor until it says that it leaves.
pub(crate) fn serve(arguments: &LanguageServer) -> Result<Exit, CliError> {
    let (connection, threads) = Connection::stdio();
    let capabilities = serde_json::to_value(requests::capabilities()).map_err(io::Error::other)?;
    let params = connection.initialize(capabilities).map_err(io::Error::other)?;
    let params: InitializeParams = serde_json::from_value(params).map_err(io::Error::other)?;
    let ended = Server::start(&connection, &arguments.common, &params)?.run();
    drop(connection);
    threads.join()?;
    ended.map(|()| Exit::Success)
}

struct Server<'c> {
    connection: &'c Connection,
    given: &'c Common,
    shows_documents: bool,
    workspace: Workspace,
    documents: Documents,
    /// Texts whose problems are not published yet.
    unpublished: VecDeque<Uri>,
    answers: Answers,
    runner: Option<Runner>,
    changed: (Sender<()>, Receiver<()>),
}

impl<'c> Server<'c> {
    fn start(connection: &'c Connection, given: &'c Common, params: &InitializeParams) -> Result<Self, CliError> {
        let shows = params.capabilities.window.as_ref().and_then(|window| window.show_document.as_ref());
        let shows_documents = shows.is_some_and(|shows| shows.support);
        let answers = Answers::new(garden_gate::Database::in_memory().session(), garden_gate::Parameters::new());
        let mut server = Self {
            connection,
            given,
            shows_documents,
            workspace: Workspace::new(root(params)),
            documents: HashMap::new(),
            unpublished: VecDeque::new(),
            answers,
            runner: None,
            changed: unbounded(),
        };
        server.open()?;
        server.watch(params)?;
        Ok(server)
    }

    /// Opens the tables anew. What is wrong with them is said to the editor, which goes on without them.
    fn open(&mut self) -> Result<(), CliError> {
        // The file of a database is open once.
        self.runner = None;
        self.answers = Answers::new(garden_gate::Database::in_memory().session(), garden_gate::Parameters::new());
        match self.opened() {
            Ok((answers, runner)) => (self.answers, self.runner) = (answers, Some(runner)),
            Err(error) => {
                let message = runner::message_of(MessageType::ERROR, error.to_string());
                self.send(Message::Notification(message))?;
            }
        }
        self.unpublished = self.documents.values().map(|document| document.uri.clone()).collect();
        Ok(())
    }

    fn opened(&self) -> Result<(Answers, Runner), CliError> {
        let (common, start) = self.workspace.common(self.given)?;
        let parameters = setup::parameters(&common)?;
        let [looks, mut runs]: [Session; 2] = setup::two_sessions(&common, &start)?;
        if !common.set.iter().any(|setting| setting.starts_with("time_limit")) {
            runs.set("time_limit", shell::TIME_LIMIT)?;
        }
        let outgoing = (self.connection.sender.clone(), self.shows_documents);
        let runner = Runner::start(runs, parameters.clone(), outgoing, self.changed.0.clone())?;
        Ok((Answers::new(looks, parameters), runner))
    }

    /// Asks the editor to say when the file of the workspace changes.
    fn watch(&self, params: &InitializeParams) -> Result<(), CliError> {
        let known = params.capabilities.workspace.as_ref().and_then(|known| known.did_change_watched_files.as_ref());
        if known.and_then(|known| known.dynamic_registration) == Some(true) {
            self.send(Message::Request(requests::watch()))?;
        }
        Ok(())
    }

    fn run(mut self) -> Result<(), CliError> {
        loop {
            let message = match self.connection.receiver.try_recv() {
                Ok(message) => message,
                Err(TryRecvError::Disconnected) => return Ok(()),
                // What was typed is looked at when nothing more is being typed.
                Err(TryRecvError::Empty) if self.publish()? => continue,
                Err(TryRecvError::Empty) => select! {
                    recv(self.again()) -> _ => continue,
                    recv(self.connection.receiver) -> message => match message {
                        Ok(message) => message,
                        Err(_) => return Ok(()),
                    },
                    recv(self.changed.1) -> _ => {
                        self.answers.estimates.forget();
                        self.unpublished = self.documents.values().map(|document| document.uri.clone()).collect();
                        continue;
                    }
                },
            };
            match message {
                Message::Request(request) => {
                    if self.connection.handle_shutdown(&request).map_err(io::Error::other)? {
                        return Ok(());
                    }
                    if let Some(response) = self.answer(request) {
                        self.send(Message::Response(response))?;
                    }
                }
                Message::Notification(notification) => self.note(notification)?,
                Message::Response(_) => {}
            }
        }
    }

    /// When to look again whether what was called off has ended; never, when nothing was.
    fn again(&self) -> Receiver<Instant> {
        if self.runner.as_ref().is_some_and(Runner::insist) { after(INSISTENCE) } else { never() }
    }

    fn send(&self, message: Message) -> Result<(), CliError> {
        Ok(self.connection.sender.send(message).map_err(io::Error::other)?)
    }

    /// Publishes the problems of one text that waits for it; whether there was one.
    fn publish(&mut self) -> Result<bool, CliError> {
        let Some(uri) = self.unpublished.pop_front() else { return Ok(false) };
        let (diagnostics, version) = match self.documents.get(uri.as_str()) {
            Some(document) => (self.answers.diagnostics(document), document.version),
            None => (Vec::new(), None),
        };
        let params = PublishDiagnosticsParams { uri, diagnostics, version };
        self.send(Message::Notification(Notification::new(PublishDiagnostics::METHOD.into(), params)))?;
        Ok(true)
    }

    /// What happened in the editor. A message that is not understood is passed over, as the protocol has it.
    fn note(&mut self, Notification { method, params }: Notification) -> Result<(), CliError> {
        fn read<P: serde::de::DeserializeOwned>(params: Json) -> Option<P> {
            serde_json::from_value(params).ok()
        }
        match method.as_str() {
            DidOpenTextDocument::METHOD => {
                if let Some(opened) = read::<lsp_types::DidOpenTextDocumentParams>(params) {
                    let document = opened.text_document;
                    self.take(Document::new(document.uri, document.text, Some(document.version)));
                }
            }
            DidChangeTextDocument::METHOD => {
                if let Some(mut changed) = read::<lsp_types::DidChangeTextDocumentParams>(params)
                    && let Some(change) = changed.content_changes.pop()
                {
                    let document = changed.text_document;
                    self.take(Document::new(document.uri, change.text, Some(document.version)));
                }
            }
            DidCloseTextDocument::METHOD => {
                if let Some(closed) = read::<lsp_types::DidCloseTextDocumentParams>(params) {
                    let uri = closed.text_document.uri;
                    self.documents.remove(uri.as_str());
                    self.unpublished.push_back(uri);
                }
            }
            DidSaveTextDocument::METHOD => {
                if let Some(saved) = read::<lsp_types::DidSaveTextDocumentParams>(params)
                    && self.is_of_workspace(&saved.text_document.uri)
                {
                    self.open()?;
                }
            }
            DidChangeWatchedFiles::METHOD => {
                if let Some(changed) = read::<lsp_types::DidChangeWatchedFilesParams>(params)
                    && changed.changes.iter().any(|change| self.is_of_workspace(&change.uri))
                {
                    self.open()?;
                }
            }
            Cancel::METHOD => {
                if let (Some(cancelled), Some(runner)) = (read::<lsp_types::CancelParams>(params), &self.runner) {
                    runner.cancel(match cancelled.id {
                        NumberOrString::Number(number) => number.into(),
                        NumberOrString::String(text) => text.into(),
                    });
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn take(&mut self, document: Document) {
        if !self.unpublished.contains(&document.uri) {
            self.unpublished.push_back(document.uri.clone());
        }
        self.documents.insert(document.uri.as_str().to_owned(), document);
    }

    /// Whether a file says which tables there are.
    fn is_of_workspace(&self, uri: &Uri) -> bool {
        self.workspace.file().is_some_and(|file| uri::path(uri) == Some(file))
    }
}

/// The folder that the editor has open; of several, the first.
fn root(params: &InitializeParams) -> Option<std::path::PathBuf> {
    let folder = params.workspace_folders.as_ref().and_then(|folders| folders.first()).map(|folder| &folder.uri);
    #[expect(deprecated, reason = "editors that know no folders say it so")]
    let uri = folder.or(params.root_uri.as_ref());
    uri.and_then(uri::path)
}
