"""A purse of accounts: a single page over JSON, a signed token in a cookie, a key of each account
in its calls.
"""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from bench.apps.base import App, Words, counted, python_of


def serve(folder: Path, port: int) -> list[str]:
    """It looks for its own files from where its packages are."""
    packages = next((python_of(folder).parent.parent / "lib").glob("python3*/site-packages"))
    return ["sh", "-c", f"cd {packages} && exec lnbits --host 127.0.0.1 --port {port}"]


def environment(folder: Path) -> Mapping[str, str]:
    """Nothing is fetched from elsewhere: whatever it asks for goes to a proxy that is not there."""
    return {
        "LNBITS_DATA_FOLDER": str(folder / "data"),
        "LNBITS_BACKEND_WALLET_CLASS": "FakeWallet",
        "LNBITS_ADMIN_UI": "false",
        "LNBITS_RATE_LIMIT_NO": "1000000",
        "LNBITS_PRICE_AGGREGATOR_ENABLED": "false",
        "LNBITS_EXTENSIONS_MANIFESTS": "[]",
        "LNBITS_WASM_EXTENSIONS_MANIFESTS": "[]",
        "AUTH_ALLOWED_METHODS": '["username-password"]',
        "HTTP_PROXY": "http://127.0.0.1:9",
        "HTTPS_PROXY": "http://127.0.0.1:9",
    }


def drive(page: Any, base: str, words: Words) -> None:
    page.goto(base + "/")
    page.click("text=Create an Account")
    page.fill("[aria-label='Username *']", words["user"])
    page.fill("[aria-label='Password *']", words["password"])
    page.fill("[aria-label='Password repeat *']", words["password"])
    page.click("button:has-text('Create account')")
    page.wait_for_selector("text=Add a new wallet")
    page.wait_for_timeout(2500)
    page.click("text=Add a new wallet")
    page.fill("[aria-label='Wallet name']", words["purse"])
    page.click(".q-dialog button:has-text('Add Wallet')")
    page.wait_for_selector(f"text=Wallet: {words['purse']}")
    page.wait_for_timeout(2500)
    page.click("button:has-text('Receive')")
    page.fill("[aria-label='Amount (sat) *']", words["amount"])
    page.fill("[aria-label='Memo']", words["memo"])
    page.click(".q-dialog button[type=submit]")
    page.wait_for_selector(".q-dialog a[href^='lightning:']")
    page.wait_for_timeout(1500)
    page.click(".q-dialog button:has-text('Close')")
    page.wait_for_timeout(1500)
    page.click("text=My Account")
    page.wait_for_timeout(1500)


def created(folder: Path, base: str) -> int:
    return counted(
        folder / "data" / "database.sqlite3",
        "SELECT count(*) FROM apipayments WHERE memo LIKE 'for the %'",
    )


def user(number: int) -> Words:
    return {"user": f"ada{number:05d}", "password": f"lantern {number} hill"}


def round(number: int) -> Words:
    what = ("kite", "rope", "lens", "drum")[number % 4]
    return {
        "purse": f"{what.title()} money {number}",
        "amount": str(1000 + 37 * number),
        "memo": f"for the {what} {number}",
    }


PURSE = App(
    name="purse (single page, JSON, signed token, key of each account)",
    packages=["lnbits==1.6.2", "bitstring<4.3"],
    serve=serve,
    environment=environment,
    drive=drive,
    user=user,
    round=round,
    created=created,
    issued={
        "key of the first account": r"GET /api/v1/payments/paginated header X-Api-Key",
        "number of the first account": r"GET /api/v1/payments/stats/daily query wallet_id",
        "key of the new account": r"POST /api/v1/payments header X-Api-Key",
        "number of the payment": r"GET /api/v1/payments/paginated query checking_id",
    },
    rounds_from="POST .*/api/v1/wallet$",
)
