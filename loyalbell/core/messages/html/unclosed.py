"""Tags that never end, made plain: the parser of the standard library looks for the end of each anew."""

import re

_NEVER_ENDS = re.compile(r"<(?!!--)(?=[^<>]*(?:<|\Z))")


def without_unclosed(page: str) -> str:
    """The same page, with ``&lt;`` for each opening whose tag does not end before the next begins, and for a
    comment that never ends.
    """
    last = page.rfind("-->") + 1
    if "<!--" in page[last:]:
        page = page[:last] + page[last:].replace("<!--", "&lt;!--")
    return _NEVER_ENDS.sub("&lt;", page)
