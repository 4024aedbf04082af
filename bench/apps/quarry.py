"""A single page with a token that is bound to the browser's own id: content written and
published.
"""

import json
import shutil
import subprocess
from pathlib import Path
from typing import Any

from bench.apps.base import App, Words, counted, modules_of

CONFIG = {
    "admin": "() => ({ auth: { secret: 'made-for-a-benchmark' }, apiToken: { salt: 'a-salt' }, "
    "transfer: { token: { salt: 'another' } }, secrets: { encryptionKey: "
    "'key-of-a-benchmark-0123456789abcd' }, flags: { nps: false, promoteEE: false }, "
    "watchIgnoreFiles: [] })",
    "database": "() => ({ connection: { client: 'sqlite', connection: { filename: "
    "require('path').join(process.env.STORE || '.', 'quarry.db') }, useNullAsDefault: true, "
    "pool: { min: 1, max: 1 } } })",
    "middlewares": "['strapi::logger','strapi::errors','strapi::security','strapi::cors',"
    "'strapi::query','strapi::body','strapi::session','strapi::favicon','strapi::public']",
    "server": "({ env }) => ({ host: '127.0.0.1', port: env.int('PORT', 1337), app: { keys: "
    "['one-key', 'another-key'] }, telemetry: false })",
}
REPORT = {
    "kind": "collectionType",
    "collectionName": "reports",
    "info": {"singularName": "report", "pluralName": "reports", "displayName": "Report"},
    "options": {"draftAndPublish": True},
    "attributes": {"title": {"type": "string", "required": True}, "text": {"type": "text"}},
}
MASTERS = """
module.exports = { register() {}, async bootstrap({ strapi }) {
  if (await strapi.db.query('admin::user').count()) return;
  const role = await strapi.service('admin::role').getSuperAdmin();
  const first = await strapi.service('admin::user').create({ email: 'master0@quarry.example',
    firstname: 'Flint', lastname: 'Quarry', password: 'Chisel-and-9-wedges', isActive: true,
    roles: [role.id] });
  const { password } = await strapi.db.query('admin::user').findOne({ where: { id: first.id } });
  for (const n of [...Array(19).keys()].map((n) => n + 1).concat(
    [...Array(400).keys()].map((n) => n + 1000)))
    await strapi.db.query('admin::user').create({ data: { email: `master${n}@quarry.example`,
      firstname: 'Flint', lastname: 'Quarry', password, isActive: true, blocked: false,
      roles: [role.id] } });
} };
"""


def build(place: Path) -> None:
    """The application's sources beside its packages, and its page made of them."""
    for name, text in CONFIG.items():
        (place / "config").mkdir(exist_ok=True)
        (place / "config" / f"{name}.js").write_text(f"module.exports = {text};\n")
    api = place / "src" / "api" / "report"
    for kind, made in (
        ("controllers", "createCoreController"),
        ("routes", "createCoreRouter"),
        ("services", "createCoreService"),
    ):
        (api / kind).mkdir(parents=True)
        (api / kind / "report.js").write_text(
            "const { factories } = require('@strapi/strapi');\n"
            f"module.exports = factories.{made}('api::report.report');\n"
        )
    (api / "content-types" / "report").mkdir(parents=True)
    (api / "content-types" / "report" / "schema.json").write_text(json.dumps(REPORT))
    (place / "src" / "index.js").write_text(MASTERS)
    (place / "public" / "uploads").mkdir(parents=True)
    subprocess.run(["npx", "strapi", "build"], cwd=place, check=True, capture_output=True)


def serve(folder: Path, port: int) -> list[str]:
    return [shutil.which("node") or "node", "-e", START, str(modules_of(folder))]


START = """
const place = process.argv[1]; process.chdir(place);
require(place + '/node_modules/@strapi/strapi').createStrapi({ appDir: place, distDir: place })
  .start();
"""


def drive(page: Any, base: str, words: Words) -> None:
    page.goto(base + "/admin/auth/login")
    page.fill("[name=email]", words["master"])
    page.fill("[name=password]", "Chisel-and-9-wedges")
    page.click("[type=submit]")
    page.wait_for_url(lambda url: "auth" not in url)
    page.wait_for_timeout(2000)
    page.goto(base + "/admin/content-manager/collection-types/api::report.report/create")
    page.fill("[name=title]", words["title"])
    page.fill("[name=text]", words["text"])
    page.get_by_role("button", name="Save").click()
    page.wait_for_url(lambda url: "/create" not in url)
    page.wait_for_timeout(1500)
    page.get_by_role("button", name="Publish").click()
    page.wait_for_timeout(2500)


def created(folder: Path, base: str) -> int:
    return counted(
        folder / "quarry.db", "select count(*) from reports where published_at is not null"
    )


def user(number: int) -> Words:
    return {"master": f"master{number}@quarry.example"}


def round(number: int) -> Words:
    return {"title": f"Seam {number}", "text": f"The seam number {number} holds slate."}


QUARRY = App(
    name="quarry (single page, bound token)",
    modules={
        "@strapi/strapi": "5.54.0",
        "better-sqlite3": "12.4.1",
        "react": "18.3.1",
        "react-dom": "18.3.1",
        "react-router-dom": "6.30.3",
        "styled-components": "6.1.19",
    },
    build=build,
    serve=serve,
    drive=drive,
    user=user,
    round=round,
    created=created,
    environment=lambda folder: {
        "STORE": str(folder),
        "PORT": folder.name.partition("-")[2],
        "NODE_ENV": "production",
        "STRAPI_TELEMETRY_DISABLED": "true",
    },
    issued={
        "token of the session": r"(GET|POST) \S+ header Authorization",
        "document's id": r"POST \S+ path",
    },
    rounds_from="/admin/content-manager/collection-types/api::report.report/create",
)
