"""What is used says so where somebody wants to delete it, with a link to each user."""

from loyalbell.core.sequences.plan import read_plan
from loyalbell.services.sequences import commands as sequence_commands
from tests.web.test_message_pages import SignedInPages


class InUsePages(SignedInPages):
    def test_a_message_of_a_sequence_and_a_segment_within_it(self) -> None:
        line = {"about": "segment", "segment": 1}
        plan = read_plan(
            {
                "only": {"root": {"lines": [line]}},
                "steps": [{"id": "a", "do": "message", "message": 2}],
            }
        )
        made = sequence_commands.keep(self.application, None, "Uses both", plan, "Ida")
        for path in ("/messages/2/delete", "/segments/1/delete"):
            with self.subTest(path=path):
                page = self.post(path)
                self.assertEqual(page.status_code, 409)
                self.assertIn(f'href="/sequences/{made}"', page.text)
                self.assertIn("Uses both", page.text)
        for path in ("/messages/2", "/segments/1"):
            self.assertEqual(self.client.get(path).status_code, 200)
