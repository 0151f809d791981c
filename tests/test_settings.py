import unittest
from pathlib import Path

from combpace.core.errors import ParameterError
from combpace.settings import from_environment


class SettingsTest(unittest.TestCase):
    def test_environment_then_command_line(self) -> None:
        found = from_environment(
            {
                "COMBPACE_DATA": "/tmp/x",
                "COMBPACE_PORT": "9000",
                "COMBPACE_WORKERS": "3",
                "COMBPACE_HOSTS": "studio.local, rack",
                "COMBPACE_UPLOAD_CAP": "5000",
            }
        )
        self.assertEqual(
            (found.data_dir, found.port, found.workers, found.upload_cap), (Path("/tmp/x"), 9000, 3, 5000)
        )
        self.assertIn("rack", found.hosts)
        changed = found.with_command_line("0.0.0.0", 0, "/tmp/y")
        self.assertEqual((changed.host, changed.port, changed.data_dir), ("0.0.0.0", 0, Path("/tmp/y")))
        self.assertIn("0.0.0.0", changed.hosts)

    def test_nonsense_is_a_sentence(self) -> None:
        for name, value in (
            ("COMBPACE_PORT", "many"),
            ("COMBPACE_LOG", "loud"),
            ("COMBPACE_WORKERS", "0"),
            ("COMBPACE_UPLOAD_CAP", "-4"),
            ("COMBPACE_WORKER_BYTES", "12"),
        ):
            with self.subTest(name=name), self.assertRaises(ParameterError) as caught:
                from_environment({name: value})
            self.assertIn(name, str(caught.exception))
