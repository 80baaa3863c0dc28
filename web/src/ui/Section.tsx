import { type ComponentProps, type ReactNode, useId } from "react";

import { Block, Stack } from "./layout";
import { Title } from "./text";

type Props = Omit<ComponentProps<typeof Stack>, "title"> & {
  title: ReactNode;
  level?: 2 | 3;
  children: ReactNode;
};

/**
 * A part of a page or a panel under a title of its own, by which it is also known to who can't see it.
 * With a ``gap`` its parts stand below one another, that far apart.
 */
export function Section({ title, level = 2, children, ...rest }: Props) {
  const id = useId();
  const Frame = rest.gap === undefined ? Block : Stack;
  return (
    <Frame as="section" aria-labelledby={id} {...rest}>
      <Title level={level} id={id}>
        {title}
      </Title>
      {children}
    </Frame>
  );
}
