import type { KeyboardEvent } from "react";

/** What makes a drawn shape a button: focus, click, Enter and Space. Its label tells what is drawn below it. */
export const pressable = (press: () => void) => ({
  role: "button",
  tabIndex: 0,
  style: { cursor: "pointer" },
  onClick: press,
  onKeyDown: (event: KeyboardEvent) => {
    if (event.key !== "Enter" && event.key !== " ") return;
    event.preventDefault();
    press();
  },
});
