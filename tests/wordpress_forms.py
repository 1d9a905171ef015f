"""People at WordPress's own forms: visitors who comment, editors who write, change and set."""

from __future__ import annotations

import re
from html.parser import HTMLParser

import httpx


class _Fields(HTMLParser):
    """The fields of one form, by the end of the address that it is sent to, as a browser would send them."""

    def __init__(self, action: str) -> None:
        super().__init__()
        self.fields: dict[str, str] = {}
        self._action, self._inside, self._select, self._text = action, False, "", ""

    def handle_starttag(self, tag: str, given: list[tuple[str, str | None]]) -> None:
        has = dict(given)
        if tag == "form":
            self._inside = str(has.get("action", "")).endswith(self._action)
        name = has.get("name") or ""
        if not self._inside:
            return
        if tag == "input" and name and has.get("type") not in ("submit", "button", "file"):
            if has.get("type") not in ("checkbox", "radio") or "checked" in has:
                self.fields[name] = has.get("value") or ""
        elif tag == "select":
            self._select = name
        elif tag == "option" and self._select:
            if "selected" in has or self._select not in self.fields:
                self.fields[self._select] = has.get("value") or ""
        elif tag == "textarea":
            self._text = name
            self.fields[name] = ""

    def handle_data(self, data: str) -> None:
        if self._text:
            self.fields[self._text] += data

    def handle_endtag(self, tag: str) -> None:
        if tag == "form":
            self._inside = False
        elif tag == "select":
            self._select = ""
        elif tag == "textarea":
            self._text = ""


class Browser:
    """Somebody's browser; ``number`` makes its address on this machine one of its own."""

    def __init__(self, address: str, number: int = 1) -> None:
        transport = httpx.HTTPTransport(local_address=f"127.0.{number // 200}.{number % 200 + 1}")
        self.client = httpx.Client(base_url=address, transport=transport, timeout=60)

    def form(self, page: str, action: str) -> dict[str, str]:
        found = _Fields(action)
        found.feed(self.client.get(page).text)
        assert found.fields, (page, action)
        return found.fields

    def log_in(self, user: str, word: str) -> None:
        self.client.get("/wp-login.php")
        answer = self.client.post(
            "/wp-login.php", data={"log": user, "pwd": word, "testcookie": "1"}
        )
        assert answer.status_code == 302, answer.text

    def comment(self, post: int, name: str, text: str) -> None:
        """As a visitor. Who writes again within seconds is refused."""
        fields = {
            "comment_post_ID": str(post),
            "author": name,
            "comment": text,
            "email": f"{name}@harrowmere.example",
        }
        answer = self.client.post("/wp-comments-post.php", data=fields)
        assert answer.status_code == 302, answer.text

    def retitle(self, post: int, title: str) -> None:
        """By the quick editing of the list of posts."""
        page = self.client.get("/wp-admin/edit.php").text
        nonce = re.search(r'name="_inline_edit" value="(\w+)"', page)
        assert nonce, page
        fields = {"action": "inline-save", "post_ID": str(post), "post_type": "post", "screen": "edit-post",
                  "_inline_edit": nonce[1], "post_title": title, "post_view": "list", "comment_status": "open"}  # fmt: skip
        answer = self.client.post("/wp-admin/admin-ajax.php", data=fields)
        assert title in answer.text, answer.text

    def set_option(self, name: str, value: str) -> None:
        """By the page of the general settings."""
        fields = self.form("/wp-admin/options-general.php", "options.php")
        answer = self.client.post("/wp-admin/options.php", data={**fields, name: value})
        assert "settings-updated" in answer.headers.get("location", ""), answer.text

    def publish(self, title: str, content: str) -> int:
        """As the editor of blocks does."""
        nonce = self.client.get("/wp-admin/admin-ajax.php?action=rest-nonce").text
        answer = self.client.post(
            "/?rest_route=/wp/v2/posts", headers={"X-WP-Nonce": nonce},
            json={"title": title, "content": content, "status": "publish"},
        )  # fmt: skip
        assert answer.status_code == 201, answer.text
        return int(answer.json()["id"])
