"""A browser in words, such as its name and the system’s. Programs call themselves what they like; this is a
hint for people who look for a sign-in that is not theirs, and nothing is decided by it.
"""

from ua_parser import parse

LONGEST_WORD = 40


def browser_words(agent: str) -> str:
    """Of a User-Agent header (RFC 9110, section 10.1.5); what it says of itself where nobody knows it, empty
    for none.
    """
    read = parse(agent)
    browser = read.user_agent.family if read.user_agent else ""
    system = read.os.family if read.os else ""
    if browser and system:
        return f"{browser} on {system}"[: 2 * LONGEST_WORD]
    return browser or system or agent.partition("/")[0][:LONGEST_WORD].strip()
