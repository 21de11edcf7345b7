//! The Language Server Protocol: an editor sends its texts, and asks what is wrong with them and what can be typed.

mod answers;
mod place;

use crate::args::LanguageServer;
use crate::{CliError, Exit, setup};
use answers::Answers;
use lsp_server::{Connection, ErrorCode, Message, Notification, Request, Response};
use lsp_types::notification::{
    DidChangeTextDocument, DidCloseTextDocument, DidOpenTextDocument, Notification as _, PublishDiagnostics,
};
use lsp_types::request::{
    CodeActionRequest, Completion, DocumentSymbolRequest, Formatting, GotoDefinition, HoverRequest, References,
    Request as _,
};
use lsp_types::{
    CompletionOptions, OneOf, PublishDiagnosticsParams, ServerCapabilities, TextDocumentSyncCapability,
    TextDocumentSyncKind, Uri,
};
use serde_json::Value as Json;
use std::collections::HashMap;
use std::io;

/// Serves an editor until it says that it leaves. Nothing runs.
pub(crate) fn serve(arguments: &LanguageServer) -> Result<Exit, CliError> {
    let answers = Answers::new(setup::session(&arguments.common)?);
    let (connection, threads) = Connection::stdio();
    let capabilities = serde_json::to_value(capabilities()).map_err(io::Error::other)?;
    connection.initialize(capabilities).map_err(io::Error::other)?;
    let ended = Server { connection: &connection, answers, texts: HashMap::new() }.run();
    drop(connection);
    threads.join()?;
    ended.map(|()| Exit::Success)
}

fn capabilities() -> ServerCapabilities {
    let triggers = [".", "'", ":"].map(str::to_owned).to_vec();
    ServerCapabilities {
        text_document_sync: Some(TextDocumentSyncCapability::Kind(TextDocumentSyncKind::FULL)),
        completion_provider: Some(CompletionOptions { trigger_characters: Some(triggers), ..Default::default() }),
        hover_provider: Some(true.into()),
        definition_provider: Some(OneOf::Left(true)),
        references_provider: Some(OneOf::Left(true)),
        document_symbol_provider: Some(OneOf::Left(true)),
        document_formatting_provider: Some(OneOf::Left(true)),
        code_action_provider: Some(true.into()),
        ..Default::default()
    }
}

struct Server<'c> {
    connection: &'c Connection,
    answers: Answers,
    texts: HashMap<Uri, String>,
}

impl Server<'_> {
    fn run(&mut self) -> Result<(), CliError> {
        for message in &self.connection.receiver {
            match message {
                Message::Request(request) => {
                    if self.connection.handle_shutdown(&request).map_err(io::Error::other)? {
                        return Ok(());
                    }
                    let response = self.answer(request);
                    self.send(Message::Response(response))?;
                }
                Message::Notification(notification) => self.note(notification)?,
                Message::Response(_) => {}
            }
        }
        Ok(())
    }

    fn send(&self, message: Message) -> Result<(), CliError> {
        Ok(self.connection.sender.send(message).map_err(io::Error::other)?)
    }

    fn answer(&self, request: Request) -> Response {
        let Request { id, method, params } = request;
        let answer = match method.as_str() {
            Completion::METHOD => self.asked(params, |text, params| self.answers.completions(text, params)),
            HoverRequest::METHOD => self.asked(params, |text, params| self.answers.hover(text, params)),
            GotoDefinition::METHOD => self.asked(params, |text, params| self.answers.definition(text, params)),
            References::METHOD => self.asked(params, |text, params| self.answers.references(text, params)),
            DocumentSymbolRequest::METHOD => self.asked(params, |text, params| self.answers.symbols(text, params)),
            Formatting::METHOD => self.asked(params, |text, params| self.answers.formatting(text, params)),
            CodeActionRequest::METHOD => self.asked(params, |text, params| self.answers.actions(text, params)),
            _ => {
                return Response::new_err(id, ErrorCode::MethodNotFound as i32, format!("{method} is not known"));
            }
        };
        match answer {
            Ok(found) => Response::new_ok(id, found),
            Err(error) => Response::new_err(id, ErrorCode::InvalidParams as i32, error.to_string()),
        }
    }

    /// The answer about the text that the parameters name; nothing when it is not open.
    fn asked<P: serde::de::DeserializeOwned + answers::OfDocument, A: serde::Serialize>(
        &self,
        params: Json,
        ask: impl FnOnce(&str, &P) -> Option<A>,
    ) -> serde_json::Result<Json> {
        let params: P = serde_json::from_value(params)?;
        let found = self.texts.get(params.document()).and_then(|text| ask(text, &params));
        serde_json::to_value(found)
    }

    /// A text that was opened, changed or closed.
    fn note(&mut self, notification: Notification) -> Result<(), CliError> {
        let Notification { method, params } = notification;
        let (uri, text) = match method.as_str() {
            DidOpenTextDocument::METHOD => {
                let Ok(opened) = serde_json::from_value::<lsp_types::DidOpenTextDocumentParams>(params) else {
                    return Ok(());
                };
                (opened.text_document.uri, Some(opened.text_document.text))
            }
            DidChangeTextDocument::METHOD => {
                let Ok(changed) = serde_json::from_value::<lsp_types::DidChangeTextDocumentParams>(params) else {
                    return Ok(());
                };
                (changed.text_document.uri, changed.content_changes.into_iter().next_back().map(|change| change.text))
            }
            DidCloseTextDocument::METHOD => {
                let Ok(closed) = serde_json::from_value::<lsp_types::DidCloseTextDocumentParams>(params) else {
                    return Ok(());
                };
                (closed.text_document.uri, None)
            }
            _ => return Ok(()),
        };
        let diagnostics = text.as_deref().map(|text| self.answers.diagnostics(text)).unwrap_or_default();
        match text {
            Some(text) => self.texts.insert(uri.clone(), text),
            None => self.texts.remove(&uri),
        };
        let params = PublishDiagnosticsParams { uri, diagnostics, version: None };
        self.send(Message::Notification(Notification::new(PublishDiagnostics::METHOD.into(), params)))
    }
}
