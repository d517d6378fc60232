"""What is being written and not yet saved, kept in memory for its preview."""

from loyalbell.core.messages.content import AnyWriting
from loyalbell.web.request import RequestContext

Writing = AnyWriting


class Drafts:
    """The newest few hundred, each readable only in the session that wrote it."""

    MOST = 300

    def __init__(self) -> None:
        self._kept: dict[str, tuple[str, Writing]] = {}
        self._next = 0

    def put(self, owner: str, content: Writing) -> str:
        self._next += 1
        key = str(self._next)
        self._kept[key] = (owner, content)
        while len(self._kept) > self.MOST:
            self._kept.pop(next(iter(self._kept)))
        return key

    def get(self, owner: str, key: str) -> Writing | None:
        found = self._kept.get(key)
        return found[1] if found and found[0] == owner else None


def drafts_of(context: RequestContext) -> Drafts:
    drafts: Drafts = context.request.app.state.drafts
    return drafts
