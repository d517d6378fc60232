"""Mistakes that somebody could make in the lines that matter most, each with the tests that must notice.

``python -m tests.mutants`` plants each in a copy of the program and runs its tests there; all must fail.
"""

from typing import NamedTuple


class Mutant(NamedTuple):
    """``old`` stands once in ``file`` and is replaced by ``new``.

    At least one of ``tests`` must then fail.
    """

    name: str
    file: str
    old: str
    new: str
    tests: tuple[str, ...]


CORE, SERVICES, STORAGE = "loyalbell/core/", "loyalbell/services/", "loyalbell/storage/"
ATTRIBUTION = ("tests.core.results.test_attribution",)
ASKED_AGAIN = ("tests.services.delivery.test_asked_again",)
TIMING = ("tests.core.policy.test_timing",)
OUTBOX = ("tests.services.delivery.test_outbox",)
LEASE = ("tests.services.delivery.test_dispatcher.TheLock",)
FOLLOWS = ("tests.storage.snapshot.test_follows", "tests.storage.test_change_tracking")
ENGINE = ("tests.core.sequences.test_engine", "tests.core.clock.test_durations")
RESTS = ("tests.services.delivery.test_channel_rests",)
CLAIMING = ("tests.services.delivery.test_claiming",)
PLACES = ("tests.services.sequences.test_place_waits",)
GAP = ("tests.services.sequences.test_after_a_gap",)
FOR_A_DAY = ("tests.services.delivery.test_for_a_day",)
REFERENCES = ("tests.core.test_references", "tests.storage.test_references")
OPENING = ("tests.storage.test_opening",)
RESTORE = ("tests.services.backups.test_restore",)
BACKUP = ("tests.services.backups.test_backup",)
SLICES = ("tests.storage.files.test_import_in_slices",)
SERVING = ("tests.web.test_serving",)
RESPONSES = ("tests.services.test_response_queue",)
CLOCKS = ("tests.core.clock.test_changing_clocks",)

MUTANTS = (
    Mutant(
        "attribution leaves out the last instant of its window",
        CORE + "results/attribution.py",
        "(self.at[near] >= at - window)",
        "(self.at[near] > at - window)",
        ATTRIBUTION,
    ),
    Mutant(
        "attribution leaves out the first instant of its window",
        CORE + "results/attribution.py",
        'by_person_and_time(person, at), side="right") - 1',
        'by_person_and_time(person, at), side="left") - 1',
        ATTRIBUTION,
    ),
    Mutant(
        "attribution takes an open before a click",
        CORE + "results/attribution.py",
        "sorted(kinds, key=lambda one: one[0])",
        "sorted(kinds, key=lambda one: -one[0])",
        ATTRIBUTION,
    ),
    Mutant(
        "ten times as late is in time",
        CORE + "policy/timing.py",
        "LATE = 900",
        "LATE = 9_000",
        TIMING,
    ),
    Mutant(
        "patience is forgotten",
        CORE + "sequences/steps/message.py",
        "patience=walk.tree.plan.patience,",
        "patience=10_000,",
        ASKED_AGAIN,
    ),
    Mutant(
        "service mail waits for the morning",
        SERVICES + "delivery/timing.py",
        "delivery, zone, delivery.message_version_id not in service, sorted",
        "delivery, zone, True, sorted",
        ASKED_AGAIN,
    ),
    Mutant(
        "retries are not asked again",
        SERVICES + "delivery/timing.py",
        "if one.origin_kind in (CAMPAIGN, SEQUENCE)]",
        "if one.origin_kind in (CAMPAIGN, SEQUENCE) and not one.attempts]",
        ASKED_AGAIN,
    ),
    Mutant(
        "sequences are asked nothing when they leave",
        SERVICES + "delivery/timing.py",
        "if one.origin_kind in (CAMPAIGN, SEQUENCE)]",
        "if one.origin_kind == CAMPAIGN]",
        ASKED_AGAIN,
    ),
    Mutant(
        "a message goes in the shop's morning, not in the person's",
        SERVICES + "delivery/timing.py",
        "zone_of(zone or shop.zone) for person_id, zone in rows",
        "zone_of(shop.zone) for person_id, zone in rows",
        ASKED_AGAIN,
    ),
    Mutant(
        "the window of the step is forgotten",
        SERVICES + "delivery/timing.py",
        "window = step.release if isinstance(step, MessageStep) else AT_ONCE",
        "window = AT_ONCE",
        ASKED_AGAIN,
    ),
    Mutant(
        "however late, it goes",
        CORE + "policy/timing.py",
        "if (is_late and open_at > last) or its_day_is_over(first, open_at, attempt.not_after):",
        "if its_day_is_over(first, open_at, attempt.not_after):",
        ASKED_AGAIN,
    ),
    Mutant(
        "quiet hours are not asked",
        CORE + "policy/timing.py",
        "quiet = quiet if attempt.marketing else NO_QUIET",
        "quiet = NO_QUIET",
        ASKED_AGAIN,
    ),
    Mutant(
        "the exit condition is not asked again",
        SERVICES + "delivery/enrolment_recheck.py",
        "if plan.exit_condition is not None and self._meets(plan.exit_condition, way):",
        "if False:",
        ASKED_AGAIN,
    ),
    Mutant(
        "what it keeps to is not asked again",
        SERVICES + "delivery/enrolment_recheck.py",
        "return plan.keep_to_it and plan.only is not None and not self._meets(plan.only, way)",
        "return False",
        ASKED_AGAIN,
    ),
    Mutant(
        "whoever was taken out still gets it",
        SERVICES + "delivery/enrolment_recheck.py",
        'GONE = ("left", "taken out")',
        'GONE = ("left",)',
        ASKED_AGAIN,
    ),
    Mutant(
        "a lease never grows stale",
        SERVICES + "delivery/leader_lease.py",
        " and held.seen_at > now - STALE",
        "",
        LEASE,
    ),
    Mutant(
        "a lease is stale at once",
        SERVICES + "delivery/leader_lease.py",
        "STALE = timedelta(seconds=60)",
        "STALE = timedelta(seconds=6)",
        LEASE,
    ),
    Mutant(
        "a gap in the change log is ignored",
        STORAGE + "change_log.py",
        "if not rows or rows[0][0] != number + 1:",
        "if not rows:",
        FOLLOWS,
    ),
    Mutant(
        "the lines of a changed order are not read again",
        STORAGE + "change_tracking.py",
        '(("orders", "{row}.id"), ("lines", "{row}.id"))',
        '(("orders", "{row}.id"),)',
        FOLLOWS,
    ),
    Mutant(
        "refunds do not reach the snapshot",
        STORAGE + "change_tracking.py",
        '    "refunded_at",\n    "refunded_minor",\n',
        "",
        FOLLOWS,
    ),
    Mutant(
        "notes of one transaction are written again by the next",
        STORAGE + "change_tracking.py",
        'connection.exec_driver_sql("DELETE FROM changed")',
        "pass",
        FOLLOWS,
    ),
    Mutant(
        "sent without having been in flight",
        CORE + "policy/delivery_state.py",
        "PLANNED: frozenset({IN_FLIGHT, ",
        "PLANNED: frozenset({SENT, IN_FLIGHT, ",
        OUTBOX,
    ),
    Mutant(
        "withheld can be planned again",
        CORE + "policy/delivery_state.py",
        "WITHHELD: frozenset(),",
        "WITHHELD: frozenset({PLANNED}),",
        OUTBOX,
    ),
    Mutant(
        "many at once move whatever their state",
        SERVICES + "delivery/outbox.py",
        ".where(where, from_there)",
        ".where(where)",
        OUTBOX,
    ),
    Mutant(
        "consent is not asked",
        CORE + "policy/send_policy.py",
        'if facts.consent != "agreed":',
        "if False:",
        ATTRIBUTION,
    ),
    Mutant(
        "suppression is not asked",
        CORE + "policy/send_policy.py",
        "if facts.suppressed:",
        "if False:",
        ATTRIBUTION,
    ),
    Mutant(
        "a limit lets one more go",
        CORE + "policy/send_policy.py",
        "if len(sent) >= limit.count:",
        "if len(sent) > limit.count:",
        (*ENGINE, "tests.services.campaigns.test_plans"),
    ),
    Mutant(
        "stop rules are not asked before the step",
        CORE + "sequences/engine.py",
        "    if why is not None:",
        "    if False:",
        ("tests.services.sequences.test_runner",),
    ),
    Mutant(
        "fields in texts are not seen",
        CORE + "references.py",
        'elif isinstance(value, str) and "{" in value:',
        "elif False:",
        REFERENCES,
    ),
    Mutant(
        "what is used can be deleted",
        SERVICES + "references.py",
        "    if uses:\n",
        "    if False:\n",
        REFERENCES,
    ),
    Mutant(
        "a live plan does not count as a user",
        STORAGE + "references.py",
        '("draft", "live_version_id", "archived_at")',
        '("live_version_id",)',
        REFERENCES,
    ),
    Mutant(
        "a fault of ours does not end the batch",
        SERVICES + "delivery/dispatcher.py",
        "while waiting and not self.stopping() and not any(outcome.about_us for outcome in said):",
        "while waiting and not self.stopping():",
        RESTS,
    ),
    Mutant(
        "what speaks of us uses up a try",
        SERVICES + "delivery/outcomes.py",
        "    delivery.attempts -= 1\n",
        "",
        RESTS,
    ),
    Mutant(
        "one refusal after another marks whom the many did not",
        SERVICES + "delivery/outcomes.py",
        "known and shape_of_words(one.words) == known",
        "False",
        RESTS,
    ),
    Mutant(
        "a resting channel is tried all the same",
        SERVICES + "delivery/dispatcher.py",
        "most = circuit.batch(int(now.timestamp()), limit)",
        "most = limit",
        RESTS,
    ),
    Mutant(
        "a lost lease is not seen while handing over",
        SERVICES + "delivery/dispatcher.py",
        "            self.lease.check(session)\n\n    def _hand",
        "            pass\n\n    def _hand",
        RESTS,
    ),
    Mutant(
        "what was never handed over is in doubt after a stop",
        SERVICES + "delivery/after_stop.py",
        "if delivery.handed_at is None or delivery.detail is not None:",
        "if delivery.detail is not None:",
        ("tests.services.delivery.test_dispatcher.Outcomes",),
    ),
    Mutant(
        "a place walks on while its message is held",
        CORE + "sequences/steps/message.py",
        "    walk.due, walk.awaits = at, ON_ITS_WAY\n    return None",
        "    walk.sent = (*walk.sent, node.step.id)\n    return go(walk, node.after, at)",
        PLACES,
    ),
    Mutant(
        "later waits count from the planned instant",
        SERVICES + "sequences/waiting_places.py",
        "at = case((left - due <= LATE, due), else_=left)",
        "at = due",
        PLACES,
    ),
    Mutant(
        "a sequence that was paused while it was looked at lets people in",
        SERVICES + "sequences/runner.py",
        "if _as_looked_at(sequence) != seen:",
        "if False:",
        ("tests.services.sequences.test_looking",),
    ),
    Mutant(
        "the summary of a week goes twice",
        SERVICES + "today/summary_mail.py",
        "_keep(session, week, [*_handed(session, week), *to], None)",
        "_keep(session, week, [], None)",
        ("tests.services.today.test_summary",),
    ),
    Mutant(
        "a picture that a machine fetched earns an order",
        SERVICES + "results/credits.py",
        "[key not in fetched for key in keys]",
        "[True for key in keys]",
        ("tests.services.results.test_counting",),
    ),
    Mutant(
        "a segment is asked about now, not as people qualified",
        SERVICES + "results/breakdown/lift_by.py",
        "evaluate(rule, snapshot, began, rules)",
        "evaluate(rule, snapshot, application.clock.now(), rules)",
        ("tests.web.test_results_pages",),
    ),
    Mutant(
        "a greeting in doubt, held or given up goes after its day",
        SERVICES + "delivery/let_go.py",
        "return first if end_of_its_day is not None and first < end_of_its_day else now",
        "return now",
        FOR_A_DAY,
    ),
    Mutant(
        "put off by the network over midnight, a greeting goes",
        CORE + "policy/timing.py",
        "its_day_is_over(first, open_at,",
        "its_day_is_over(planned, open_at,",
        FOR_A_DAY,
    ),
    Mutant(
        "a birthday is greeted days later",
        CORE + "policy/timing.py",
        "return not_after is not None and first < not_after <= at",
        "return False",
        GAP,
    ),
    Mutant(
        "what follows a message that was too late goes all the same",
        CORE + "sequences/steps/message.py",
        "return leave(walk, decision.cause) if decision.cause == TOO_LATE else None",
        "return None",
        GAP,
    ),
    Mutant(
        "yearly dates are of the shop's zone",
        CORE + "segments/conditions/date.py",
        "zone = snapshot.words.said[code] if code else snapshot.zone",
        "zone = snapshot.zone",
        ("tests.services.sequences.test_own_days",),
    ),
    Mutant(
        "every message of a run gets a code of its own",
        SERVICES + "offers/commands.py",
        "code = code or of_run.get((to.person_id, to.run))",
        "pass",
        ("tests.services.sequences.test_codes_and_addresses",),
    ),
    Mutant(
        "two people at one address get it twice",
        SERVICES + "delivery/claiming.py",
        "if got.get(key, set()) - {delivery.person_id}:",
        "if False:",
        ("tests.services.sequences.test_codes_and_addresses",),
    ),
    Mutant(
        "the guard knows no weekdays",
        SERVICES + "sequences/volume_guard.py",
        "counts = alike if len(alike) >= DAYS_ALIKE else list(days.values())",
        "counts = list(days.values())",
        ("tests.services.sequences.test_guard_weekdays",),
    ),
    Mutant(
        "an exact time holds all day",
        CORE + "policy/timing.py",
        "EXACT_HOLDS = 3_600",
        "EXACT_HOLDS = 36_000",
        TIMING,
    ),
    Mutant(
        "a stop ends the process before anything is written down",
        "loyalbell/web/server.py",
        "signal.signal(signal.SIGTERM, signal.default_int_handler)",
        "pass",
        ("tests.services.delivery.test_stop_and_start",),
    ),
    Mutant(
        "an event from before somebody came in ends their run",
        SERVICES + "delivery/enrolment_recheck.py",
        "(rows.at > entered)",
        "(rows.at > 0)",
        CLAIMING,
    ),
    Mutant(
        "a message is claimed of which nobody asked whether its run has ended",
        SERVICES + "delivery/dispatcher.py",
        ".where(Delivery.id.in_(gone))",
        "",
        CLAIMING,
    ),
    Mutant(
        "who was taken out between the look and the claim gets it",
        SERVICES + "delivery/dispatcher.py",
        "ended = gone | left_by_now(session, deliveries)",
        "ended = gone",
        CLAIMING,
    ),
    Mutant(
        "a fault while messages are made leaves them in hand",
        SERVICES + "delivery/dispatcher.py",
        "give_back(session, going)",
        "pass",
        CLAIMING,
    ),
    Mutant(
        "a message that waits for the morning is taken to be out in the coming weeks",
        SERVICES + "rehearsal/forecast.py",
        "position = _waiting_for(position, planned.get(key), now)",
        "position = _waiting_for(position, None, now)",
        PLACES,
    ),
    Mutant(
        "who is overdue when a rehearsal begins is taken to be in time",
        CORE + "sequences/simulator.py",
        "now = max(run.position.due, self.found.start)",
        "now = run.position.due",
        ("tests.core.sequences.test_engine.SideBySideTest",),
    ),
    Mutant(
        "upgrade: not in one transaction",
        STORAGE + "opening.py",
        '        connection.exec_driver_sql("BEGIN IMMEDIATE")\n',
        "",
        OPENING,
    ),
    Mutant(
        "upgrade: an empty file is a new shop",
        STORAGE + "opening.py",
        "if path.stat().st_size == 0:",
        "if path.stat().st_size < 0:",
        OPENING,
    ),
    Mutant(
        "upgrade: no backup before it",
        STORAGE + "opening.py",
        "    put_away(path, revision)\n",
        "",
        OPENING,
    ),
    Mutant(
        "restore: what was due before is simply sent",
        SERVICES + "delivery/perhaps_gone.py",
        "if until is None or delivery.due_at > until:",
        "if until is None or delivery.due_at >= delivery.due_at:",
        RESTORE,
    ),
    Mutant(
        "restore: what the engine plans anew is taken for later",
        SERVICES + "sequences/actions.py",
        "due = min(act.at, was_due) if self.until is not None and was_due <= self.until else act.at",
        "due = act.at",
        RESTORE,
    ),
    Mutant(
        "restore: a round that was due before is taken for later",
        SERVICES + "campaigns/commands.py",
        "begins = meant if until is not None and meant is not None and meant <= until else now",
        "begins = now",
        RESTORE,
    ),
    Mutant(
        "restore: what is held is let go as if nobody had before",
        SERVICES + "delivery/let_go.py",
        "if delivery.state is not UNSURE and is_in_doubt(delivery, until):",
        "if delivery.state is not UNSURE and until is not None and delivery.due_at > now:",
        RESTORE,
    ),
    Mutant(
        "restore: it begins ringing",
        SERVICES + "backups/restore.py",
        "        shop.ringing = False\n",
        "        shop.ringing = True\n",
        RESTORE,
    ),
    Mutant(
        "restore: networks are believed that cannot know",
        SERVICES + "delivery/after_stop.py",
        "if delivery.detail == PERHAPS_GONE and not restored.asks:",
        "if delivery.detail is None and not restored.asks:",
        RESTORE,
    ),
    Mutant(
        "restore: a backup has no key for the names of messages",
        SERVICES + "backups/commands.py",
        "    if not has_key:\n",
        "    if has_key:\n",
        RESTORE,
    ),
    Mutant(
        "backup: the files are copied as they lie",
        STORAGE + "backup_file.py",
        "        source.backup(copy)\n",
        "        copy.deserialize(book.read_bytes())\n",
        BACKUP,
    ),
    Mutant(
        "backup: checksums are not asked",
        STORAGE + "backup_file.py",
        "if (size, digest) != (entry.size, entry.sha256):",
        "if size != entry.size:",
        BACKUP,
    ),
    Mutant(
        "import in slices: what others wrote is not noticed",
        STORAGE + "long_write.py",
        "return change_log.newest(self.session) != mine",
        "return change_log.newest(self.session) < mine",
        SLICES,
    ),
    Mutant(
        "import in slices: half a file stays",
        SERVICES + "imports/under_way.py",
        '            undo(session, run, application.clock.now(), run.by or "")\n',
        "",
        SLICES,
    ),
    Mutant(
        "import in slices: numbers of orders from below",
        STORAGE + "files/orders/order_upsert.py",
        "for some in (*slices[-1:], *slices[:-1]):",
        "for some in slices:",
        SLICES,
    ),
    Mutant(
        "import in slices: people are let in meanwhile",
        SERVICES + "sequences/runner.py",
        "if live is None or is_under_way(self.application):",
        "if live is None:",
        SLICES,
    ),
    Mutant(
        "serving: a proxy speaks for this machine",
        "loyalbell/web/watching_routes.py",
        ' and "x-forwarded-for" not in request.headers',
        "",
        SERVING,
    ),
    Mutant(
        "serving: addresses of people stand in the log",
        "loyalbell/web/logs.py",
        "            without_people,\n",
        "",
        SERVING,
    ),
    Mutant(
        "serving: without room messages leave all the same",
        SERVICES + "health/room.py",
        "    if free >= least:",
        "    if free >= 0:",
        SERVING,
    ),
    Mutant(
        "opens: each fetch counts",
        SERVICES + "response_queue.py",
        "        if (delivery.id, by) not in opened:\n",
        "        if True:\n",
        RESPONSES,
    ),
    Mutant(
        "clocks: hours that come twice are open twice",
        CORE + "clock/send_windows.py",
        "    if first == last or second > last:\n",
        "    if second > last:\n",
        CLOCKS,
    ),
    Mutant(
        "clocks: what the clocks skip is put off to the next day",
        CORE + "clock/send_windows.py",
        "    if begin >= instant:\n        return begin\n",
        "    if second <= first:\n        return begin\n",
        CLOCKS,
    ),
)
