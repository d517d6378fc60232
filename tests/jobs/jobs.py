"""What people do here in a week, each as its user would, said once for both hands."""

from collections.abc import Callable
from pathlib import Path

from selenium.webdriver.common.by import By

from tests.jobs.hands import Hands
from tests.support import wait_for

Job = Callable[[Hands], None]
JOBS: dict[str, Job] = {}
FILES = Path(__file__).resolve().parents[2] / "loyalbell/demo/files"


def job(words: str) -> Callable[[Job], Job]:
    def named(one: Job) -> Job:
        JOBS[words] = one
        return one

    return named


@job("Bring in a file")
def _import(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".shop-name")
    hand.press(".dropdown-menu a", "Imports")
    # each file once: a second time there would be nothing to bring in
    customers = hand.name == "keyboard"
    hand.file("#file", str(FILES / ("new-customers.csv" if customers else "new-orders.csv")))
    hand.press("main .btn-act", "Try it out")
    if customers:
        hand.press(".rail .question .btn-act")
    hand.press(".rail form[action$=bring-in] .btn-act")
    hand.sees("Undo", ".rail")


@job("Merge two records of one person")
def _merge(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".shop-name")
    hand.press(".dropdown-menu a", "Duplicates")
    hand.press("main a.btn", "Side by side")
    hand.press("main .btn-act")
    hand.sees("merged")


@job("Find a customer and write a note")
def _note(hand: Hands) -> None:
    hand.begin("/")
    hand.area("Customers")
    hand.write("#q", "wren")
    hand.at("q=wren")
    hand.press(".book-table tbody a")
    hand.write("[name=text]", f"Rang on Tuesday, by {hand.name}")
    hand.press("main button", "Add the note")
    hand.sees(f"Rang on Tuesday, by {hand.name}")


@job("Stop email to a customer who asks for it")
def _stop(hand: Hands) -> None:
    hand.begin("/customers/" + {"keyboard": "12", "mouse": "15"}[hand.name])
    hand.press("#part-reach .part-head button")
    hand.press("#part-reach button", "stop")
    hand.sees("suppressed", "#part-reach")


@job("See when people come back, of one service, and make the late ones a segment")
def _rhythm(hand: Hands) -> None:
    hand.begin("/")
    hand.area("Rhythm")
    hand.press("main a.btn-act", "Make them a segment")
    hand.at("/segments/")


@job("Cut a segment from a ready-made one")
def _segment(hand: Hands) -> None:
    hand.begin("/")
    hand.area("Segments")
    hand.press("main a", "Lapsed: ordered before")
    hand.write(".title-input", f"Lapsed, by {hand.name}")
    hand.press("[id^=words-][id$=-period]", "in the last")
    hand.write("[name$='.period.days']", "45")
    hand.sees("in the last 45 days")
    hand.press(".title-row .btn-act", "Save")
    hand.at("saved=yes")


@job("Write a message from a ready-made one, with their first name, and save it")
def _message(hand: Hands) -> None:
    hand.begin("/")
    hand.area("Messages")
    hand.press("main a.btn-act", "New message")
    hand.press(".tile", "A reason to come back")
    hand.write("[name=name]", f"A word, by {hand.name}")
    hand.write("[data-name=subject]", "A word from us")
    hand.press('.block[data-kind="text"] .written')
    hand.press('.block[data-kind="text"] .insert')
    hand.press("[data-pick-field]", "first name")
    hand.press("#put-in")
    hand.press(".title-row .btn-act", "Save")
    hand.at("saved=yes")


@job("Send oneself a proof")
def _proof(hand: Hands) -> None:
    hand.begin("/messages/2")
    hand.press("button", "Proof")
    hand.sees("A proof is on its way")


@job("Cut and size a picture in a letter")
def _picture(hand: Hands) -> None:
    hand.begin("/messages/new?start=blank")
    hand.press("#blocks > .piece:last-child .plus > button")
    hand.press("[data-add=picture]")
    hand.choose('.block[data-kind="picture"] [data-name=picture]', "paws")
    hand.press("[data-cut]")
    hand.sees("pixels", "#cut-dialog")
    hand.choose("#cut-shape", "square")
    hand.press("#cut-done")
    hand.sees("paws, cut", '.block[data-kind="picture"]')


@job("Send a campaign on a day, with a fifth held back")
def _campaign(hand: Hands) -> None:
    hand.begin("/")
    hand.area("Campaigns")
    hand.press("main a.btn-act", "New campaign")
    hand.write("#name", f"May, by {hand.name}")
    hand.press("main .btn-act")
    hand.write("[name=held_back]", "20")
    hand.sees("held back", "#send-act")
    hand.press("#send-act .btn-act")
    hand.at("/sure")
    hand.press("main .btn-act", "Yes")
    hand.at("/results/")


@job("Automate a win-back: change a wait, save, publish")
def _sequence(hand: Hands) -> None:
    hand.begin("/")
    hand.area("Sequences")
    hand.press("main a.btn-act", "New sequence")
    hand.press(".occasion", "Second purchase")
    hand.press(".step-line button", "7 days")
    hand.write(".chooser input[inputmode=numeric]", "9")
    hand.press(".title-row .btn", "Save the draft")
    hand.press(".title-row .btn-act", "Publish")
    hand.press("#publish-acts .btn-act:not([disabled])")
    hand.at("/live")


@job("Rehearse a sequence and see the people behind a day")
def _rehearse(hand: Hands) -> None:
    hand.begin("/sequences/5")
    hand.press(".rail a", "The whole rehearsal")
    hand.press(".rehearsal-bars a")
    hand.sees("Who", "#behind")


@job("Pause a sequence and resume it")
def _pause(hand: Hands) -> None:
    hand.begin("/")
    hand.area("Sequences")
    hand.press("main td a", "Birthday")
    hand.press(".acts button", "Pause")
    hand.press("main .btn-act", "Resume")
    hand.sees("Pause", ".acts")


@job("Move a sequence up in the order")
def _order(hand: Hands) -> None:
    hand.begin("/")
    hand.area("Sequences")
    hand.press("tbody tr:nth-child(3) button[value=up]")
    hand.sees("Order", "thead")


@job("Copy a sequence")
def _copy(hand: Hands) -> None:
    hand.begin("/sequences/5")
    hand.press("main button", "Copy")
    hand.sees("draft")


@job("Answer a reply")
def _reply(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".bar .replies")
    hand.press(".thread-list a, main .replies-list a, main a[href^='/replies/']:not(.btn)", "")
    hand.write("main textarea", "Of course, we will see to it.")
    hand.press("main .btn-act")
    hand.sees("Of course, we will see to it.")


@job("Make an offer, and see it at the till")
def _offer(hand: Hands) -> None:
    hand.begin("/offers")
    hand.press("main a.btn-act", "New offer")
    hand.write("[name=name]", f"Tea for two, by {hand.name}")
    hand.press("main .btn-act")
    hand.at("saved=yes")


@job("Read the results of a campaign, for the last 90 days")
def _results(hand: Hands) -> None:
    hand.begin("/")
    hand.area("Results")
    hand.press("main a", "90 days")
    hand.press("main td a", "News from Otterby, April")
    hand.sees("Delivered")


@job("Change the letterhead’s colour words and save")
def _letterhead(hand: Hands) -> None:
    hand.begin("/letterheads")
    hand.write("[name=header]", "Otterby Pet House, Mill Row")
    hand.press("main button", "Save")
    hand.at("saved=yes")


@job("Undo in a letter")
def _undo(hand: Hands) -> None:
    hand.begin("/messages/2")
    hand.write("[data-name=subject]", "Not this")
    hand.press("#undo:not([disabled])")
    wait_for(lambda: "Not this" not in hand.browser.find_element(By.CSS_SELECTOR, "[data-name=subject]").text)


@job("Show a part of a letter to a segment only")
def _some(hand: Hands) -> None:
    hand.begin("/messages/2")
    hand.press('.block[data-kind="text"] .written')
    hand.press('.block[data-kind="text"] .show-when')
    hand.choose("#when-segment", "Not seen for 60 days")
    hand.sees("shown to", "#blocks")


@job("Ask customers for what is missing")
def _ask(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".shop-name")
    hand.press(".dropdown-menu a", "Fields and dates")
    hand.press("main a", "Ask")
    hand.at("/asking")


@job("Write in an event by hand, to try what it starts")
def _event(hand: Hands) -> None:
    hand.begin("/customers/9")
    hand.write(
        "#timeline input[name=kind].form-control, main input[name=kind].form-control", "looked at coats"
    )
    hand.press("main button", "Add the event")
    hand.sees("Looked at coats")


@job("Redeem a code at the till")
def _till(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".shop-name")
    hand.press(".dropdown-menu a", "Till")
    hand.write("[name=code]", hand.code)
    hand.press("main button", "Look")
    hand.write("[name=purchase]", "40.00")
    hand.press("main .btn-act", "Use the code")
    hand.sees("used")


@job("See what goes out in the coming weeks")
def _calendar(hand: Hands) -> None:
    hand.begin("/")
    hand.area("Campaigns")
    hand.press("main a", "Calendar")
    hand.at("/calendar")


@job("Switch everything to silent and back")
def _switch(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".switch")
    hand.browser.switch_to.alert.accept()
    hand.sees("silent", ".bar")
    hand.press(".switch")
    hand.sees("ringing", ".bar")


@job("Invite somebody to the front desk")
def _invite(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".shop-name")
    hand.press(".dropdown-menu a", "People")
    hand.write("main [name=name]", "Petra")
    hand.write("main [name=email]", f"petra.{hand.name}@otterby.example")
    hand.press("main .btn-act")
    hand.sees("An email with a link")


@job("Paste a list and keep it as a segment")
def _pasted(hand: Hands) -> None:
    hand.begin("/")
    hand.area("Segments")
    hand.press("main a.btn", "Paste a list")
    hand.write("#text", "ida@nowhere.example")
    hand.press("main .btn-act", "Look who they are")
    hand.sees("nowhere.example")


@job("Compare two segments")
def _compare(hand: Hands) -> None:
    hand.begin("/")
    hand.area("Segments")
    hand.press("main a.btn", "Compare")
    hand.choose("#s0", "Not seen for 60 days")
    hand.choose("#s1", "Spent 1,000 or more")
    hand.press("main .btn-act", "Compare")
    hand.sees("both")


@job("Tag a customer")
def _tag(hand: Hands) -> None:
    hand.begin("/customers/9")
    hand.write("main input[name=tag]", f"by {hand.name}")
    hand.enter()
    hand.sees(f"by {hand.name}")


@job("Look at somebody’s messages only, in the diary")
def _diary(hand: Hands) -> None:
    hand.begin("/customers/9")
    hand.press("main input[name=kind][value=message]")
    hand.sees("sent by email")


@job("Set the volume guard")
def _quiet(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".shop-name")
    hand.press(".dropdown-menu a", "Care")
    hand.write("[name=guard_floor]", "60")
    hand.press("main .btn-act", "Save")
    hand.sees("aved")


@job("Make a backup")
def _backup(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".shop-name")
    hand.press(".dropdown-menu a", "Backups")
    hand.press("main .btn-act", "Back up now")
    hand.sees("Check")


@job("Add an item to the catalogue")
def _item(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".shop-name")
    hand.press(".dropdown-menu a", "Catalogue")
    hand.press("main a.btn-act", "Add an item")
    hand.write("main [name=name]", f"Paw balm, by {hand.name}")
    hand.press("main .btn-act")
    hand.sees(f"Paw balm, by {hand.name}")


@job("Add a step to a sequence")
def _step(hand: Hands) -> None:
    hand.begin("/sequences/7")
    hand.press("#sheet button", "+ add a step")
    hand.press("#sheet .add-menu button, #sheet [data-act^=add]", "tag")
    hand.sees("tag", "#sheet")


@job("Write the text version of a message")
def _text(hand: Hands) -> None:
    hand.begin("/messages/3")
    hand.press("[data-turn-channel=text]")
    wait_for(lambda: hand.find("[data-turn-channel=text]").get_attribute("aria-pressed") == "true")


@job("Mark a reply as done")
def _settled(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".bar .replies")
    hand.press("main a[href^='/replies/']:not(.btn)")
    hand.press("main button", "Done")
    hand.at("/replies")


@job("Change one’s own password")
def _password(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".shop-name")
    hand.press(".dropdown-menu a", "Your sign-in")
    hand.write("main input[type=password]", "not this one")
    hand.press("main button", "Change the password")
    hand.at("/own")


@job("Find the downloads")
def _download(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".shop-name")
    hand.press(".dropdown-menu a", "Imports")
    hand.sees("spreadsheet")


@job("Read a day’s log")
def _log(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".shop-name")
    hand.press(".dropdown-menu a[href='/log']")
    hand.press("main a", "Check")
    hand.sees("entries fit one another")


@job("Give a campaign a goal")
def _goal(hand: Hands) -> None:
    hand.begin("/campaigns/new?segment=1&message=1")
    hand.write("#name", f"With a goal, by {hand.name}")
    hand.press("main .btn-act")
    hand.press("[name=has_goal]")
    hand.write("[name=goal_share]", "20")
    hand.sees("now", "#send-act")


@job("Lay a letter out in three columns")
def _columns(hand: Hands) -> None:
    hand.begin("/messages/new?start=blank")
    hand.press("#blocks > .piece:last-child .plus > button")
    hand.press("[data-add=columns3]")
    hand.find(".columns-3")


@job("Make a sequence a template of one’s own")
def _template(hand: Hands) -> None:
    hand.begin("/sequences/" + {"keyboard": "6", "mouse": "7"}[hand.name])
    hand.press("main button", "Use as a template")
    hand.sees("No longer a template")


@job("Copy a step of a sequence")
def _copy_step(hand: Hands) -> None:
    hand.begin("/sequences/" + {"keyboard": "8", "mouse": "9"}[hand.name])
    steps = len(hand.browser.find_elements(By.CSS_SELECTOR, "#sheet [id^=step-]"))
    hand.press("#sheet button", "More for this step")
    hand.press("#sheet button", "copy")
    wait_for(lambda: len(hand.browser.find_elements(By.CSS_SELECTOR, "#sheet [id^=step-]")) > steps)


@job("Look at a held batch and let it go")
def _held(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".shop-name")
    hand.press(".dropdown-menu a", "Held")
    hand.press("main a[href^='/held/']")
    hand.press("main button", "Let all")
    hand.browser.switch_to.alert.accept()
    wait_for(lambda: hand.browser.current_url.endswith("/held"))


@job("Read a mail as the customer got it")
def _mail(hand: Hands) -> None:
    hand.begin("/")
    hand.press(".shop-name")
    hand.press(".dropdown-menu a", "Post room")
    hand.press("tbody a")
    hand.find(".mail-frame")


@job("Ask what a page is for")
def _help(hand: Hands) -> None:
    hand.begin("/segments")
    hand.press("#help-button")
    hand.sees("guide", "#keys")
