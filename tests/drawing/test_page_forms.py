"""What a page is sent has the fields that Python and the scripts were told of."""

import typing

from bench import wire_types
from combpace.drawing import picture
from combpace.session import page_forms
from rig.places import PlaceTest


class PageFormsTest(PlaceTest):
    def agrees(self, value: object, form: object, where: str) -> None:
        """Every field of a form is there and of its kind; there is no other."""
        if typing.is_typeddict(form):
            assert isinstance(value, dict)
            hints = typing.get_type_hints(form)
            self.assertLessEqual(set(form.__required_keys__), set(value), where)  # type: ignore[attr-defined]
            self.assertLessEqual(set(value), set(hints), where)
            for name, inner in value.items():
                self.agrees(inner, hints[name], f"{where}.{name}")
            return
        inside = typing.get_args(form)
        if typing.get_origin(form) is list:
            assert isinstance(value, list), where
            for one in value:
                self.agrees(one, inside[0], where)
        elif typing.get_origin(form) is dict:
            assert isinstance(value, dict), where
            for one in value.values():
                self.agrees(one, inside[1], where)
        elif inside:
            # One of several: the first that has its keys, or is its kind.
            kinds = [one for one in inside if typing.is_typeddict(one)]
            if isinstance(value, dict):
                fitting = [one for one in kinds if set(one.__required_keys__) <= set(value)]
                self.assertTrue(fitting, where)
                self.agrees(value, fitting[0], where)
            else:
                plain = [one for one in inside if one not in kinds]
                self.assertTrue(any(self.is_of(value, one) for one in plain), f"{where}: {value!r}")
        else:
            self.assertTrue(self.is_of(value, form), f"{where}: {value!r} is no {form}")

    @staticmethod
    def is_of(value: object, kind: object) -> bool:
        if kind is typing.Any:
            return True
        if kind is float:
            return isinstance(value, int | float) and not isinstance(value, bool)
        if kind is int:
            return isinstance(value, int) and not isinstance(value, bool)
        return isinstance(value, kind)  # type: ignore[arg-type]

    def test_a_picture_is_what_its_form_says(self) -> None:
        self.act("rule", take=self.lead, field="grid", value="1/8")
        self.act("pull", time_s=self.line(3) + 0.04, quarters=12.0, free=True)
        made = picture.picture(self.seen(), self.lead)
        self.agrees(made, page_forms.Picture, "picture")
        self.assertTrue(made["bars"] and made["anchors"] and made["takes"] and made["raw"])
        self.assertIn("pegs", made["fit"] or {})

    def test_pieces_too(self) -> None:
        self.act("cut-and-lay", take=self.lead, at="bars", lay="where")
        rows = picture.piece_rows(self.seen(), self.lead)
        self.assertGreater(len(rows), 4)
        self.agrees(rows, list[page_forms.PieceRow], "pieces")

    def test_the_scripts_types_are_made_from_the_forms(self) -> None:
        self.assertEqual(wire_types.PATH.read_text(encoding="utf-8"), wire_types.made(), "run `make types`")

    def test_what_json_does_not_have_is_no_type(self) -> None:
        with self.assertRaises(TypeError):
            wire_types.script_type(set[int])
