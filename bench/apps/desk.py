"""A page that signs in at another origin: PKCE, a nonce, a name before the password, and a refresh
token that is another one after each use.
"""

import shutil
from pathlib import Path
from typing import Any

from bench.apps.base import App, Words, modules_of

SERVER = r"""
const fs = require('fs'), http = require('http'), path = require('path');
const { pathToFileURL } = require('url');
const [modules, store, first] = process.argv.slice(2);
const app = Number(first), own = `http://127.0.0.1:${app}`, who = `http://127.0.0.1:${app + 1}`;
const notes = path.join(store, 'notes.jsonl');
const page = (text) => `<!doctype html><meta charset=utf-8><title>Sign-in</title>${text}`;
const read = (req) => new Promise((done) => {
  let text = ''; req.on('data', (each) => text += each); req.on('end', () => done(text));
});
(async () => {
  const { default: Provider } = await import(
    pathToFileURL(path.join(modules, 'node_modules/oidc-provider/lib/index.js')));
  const provider = new Provider(who, {
    clients: [{ client_id: 'desk', redirect_uris: [`${own}/`], token_endpoint_auth_method: 'none',
      grant_types: ['authorization_code', 'refresh_token'], response_types: ['code'] }],
    clientBasedCORS: () => true, rotateRefreshToken: true, scopes: ['openid', 'offline_access'],
    issueRefreshToken: async () => true, pkce: { required: () => true },
    features: { devInteractions: { enabled: false } },
    interactions: { url: (ctx, each) => `/sign-in/${each.uid}` },
    cookies: { keys: ['made-for-a-benchmark'] }, jwks: undefined,
    findAccount: (ctx, id) => ({ accountId: id, claims: () => ({ sub: id }) }),
  });
  const names = new Map(), provide = provider.callback();
  http.createServer(async (req, res) => {
    const uid = (req.url.match(/^\/sign-in\/([\w-]+)/) || [])[1];
    if (!uid) return provide(req, res);
    res.setHeader('Content-Type', 'text/html');
    try {
      const asked = await provider.interactionDetails(req, res), name = names.get(uid);
      if (asked.prompt.name === 'consent') {
        if (req.method !== 'POST')
          return res.end(page('<form method=post>May the desk read your name? '
            + '<button name=allow value=yes>Allow</button></form>'));
        const grant = new provider.Grant(
          { clientId: 'desk', accountId: asked.session.accountId });
        grant.addOIDCScope('openid offline_access');
        const grantId = await grant.save();
        return await provider.interactionFinished(req, res, { consent: { grantId } },
          { mergeWithLastSubmission: true });
      }
      if (req.method === 'POST') {
        const typed = new URLSearchParams(await read(req));
        if (typed.get('login')) names.set(uid, typed.get('login'));
        else if (name && typed.get('secret') === 'clover-and-vetch')
          return await provider.interactionFinished(req, res, { login: { accountId: name } });
        res.statusCode = 303; res.setHeader('Location', `/sign-in/${uid}`); return res.end();
      }
      res.end(page(name
        ? `<form method=post>${name} <input name=secret type=password>
          <button>Sign in</button></form>`
        : '<form method=post><input name=login><button>Next</button></form>'));
    } catch (wrong) { res.statusCode = 400; res.end(page(String(wrong))); }
  }).listen(app + 1, '127.0.0.1');
  const script = fs.readFileSync(
    path.join(modules, 'node_modules/oidc-client-ts/dist/browser/oidc-client-ts.min.js'));
  http.createServer(async (req, res) => {
    const at = req.url.split('?')[0], send = (type, body, code = 200) => {
      res.writeHead(code, { 'Content-Type': type }); res.end(body);
    };
    if (at === '/') return send('text/html', fs.readFileSync(path.join(store, 'desk.html')));
    if (at === '/client.js') return send('text/javascript', script);
    if (at !== '/notes') return send('text/plain', 'nothing here', 404);
    const token = await provider.AccessToken.find((req.headers.authorization || '').slice(7));
    if (!token) return send('application/json', '{"error":"sign in first"}', 401);
    const note = JSON.parse(await read(req));
    note.by = token.accountId; note.id = fs.existsSync(notes)
      ? fs.readFileSync(notes, 'utf8').split('\n').length : 1;
    fs.appendFileSync(notes, JSON.stringify(note) + '\n');
    send('application/json', JSON.stringify(note), 201);
  }).listen(app, '127.0.0.1');
})();
"""
PAGE = """<!doctype html><meta charset=utf-8><title>Desk</title><script src=/client.js></script>
<p id=who></p><button id=in hidden>Sign in</button>
<form id=write hidden><input id=text><button>Keep</button></form><ul id=notes></ul><script>
(async () => {
  const other = location.host.includes('localhost') ? 'http://1-' + location.host
    : location.origin.replace(/[0-9]+$/, (port) => Number(port) + 1);
  const desk = new oidc.UserManager({ authority: other, client_id: 'desk',
    redirect_uri: location.origin + '/', scope: 'openid offline_access',
    userStore: new oidc.WebStorageStateStore({ store: sessionStorage }) });
  const show = (id) => document.getElementById(id);
  if (location.search.includes('code=')) {
    await desk.signinCallback(); history.replaceState(null, '', '/');
  }
  const user = await desk.getUser();
  show('in').hidden = Boolean(user); show('write').hidden = !user;
  show('who').textContent = user ? user.profile.sub : 'nobody';
  show('in').onclick = () => desk.signinRedirect(
    { prompt: 'consent', nonce: crypto.randomUUID() });
  show('write').onsubmit = async (event) => {
    event.preventDefault();
    const renewed = await desk.signinSilent();
    const answer = await fetch('/notes', { method: 'POST', body: JSON.stringify(
      { text: show('text').value, key: crypto.randomUUID() }),
      headers: { 'Content-Type': 'application/json',
        Authorization: 'Bearer ' + renewed.access_token } });
    const note = await answer.json(), line = document.createElement('li');
    line.textContent = note.id + ' ' + note.text; show('notes').append(line);
  };
})();
</script>"""


def serve(folder: Path, port: int) -> list[str]:
    (folder / "server.js").write_text(SERVER)
    (folder / "desk.html").write_text(PAGE)
    node = shutil.which("node") or "node"
    return [node, str(folder / "server.js"), str(modules_of(folder)), str(folder), str(port)]


def drive(page: Any, base: str, words: Words) -> None:
    page.goto(base + "/")
    page.click("#in")
    page.fill("[name=login]", words["person"])
    page.click("button")
    page.fill("[name=secret]", "clover-and-vetch")
    page.click("button")
    page.click("[name=allow]")
    page.wait_for_selector("#write:not([hidden])")
    for note in (words["note"], words["note"] + ", second look"):
        page.wait_for_timeout(1500)
        page.fill("#text", note)
        page.click("#write button")
        page.wait_for_selector(f"li:has-text('{note}')")


def created(folder: Path, base: str) -> int:
    notes = folder / "notes.jsonl"
    return notes.read_text().count("second look") if notes.exists() else 0


def user(number: int) -> Words:
    return {"person": f"sorrel{number}"}


def round(number: int) -> Words:
    return {"note": f"Meadow {number}"}


DESK = App(
    name="desk (sign-in elsewhere)",
    modules={"oidc-provider": "8.8.1", "oidc-client-ts": "3.5.0"},
    serve=serve,
    drive=drive,
    user=user,
    round=round,
    created=created,
    others=1,
    issued={
        "code of the sign-in": r"(GET \S+ query|POST \S*/token (form|field)) code",
        "refresh token": r"POST \S*/token (form|field) refresh_token",
        "access token": r"POST \S*/notes header Authorization",
        "address of the sign-in's steps": r"(GET|POST) \S*/sign-in/\S+ path",
    },
)
