"""The night, worked out beforehand: timetable, forecast and costs of a run (``docs/rules/night.md``, T and F)."""
