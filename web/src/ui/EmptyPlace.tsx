import Typography from "@mui/material/Typography";
import { styled } from "@mui/material/styles";
import type { ReactNode } from "react";

import { ink } from "../theme/theme";
import { Title } from "./text";

const Frame = styled("div")(({ theme }) => ({
  maxWidth: 560,
  margin: `${theme.spacing(7)} auto 0`,
  padding: theme.spacing(0, 2),
  display: "grid",
  gap: theme.spacing(1.25),
  justifyItems: "start",
}));

/** What a place is for while it is empty: in words, as a small drawing of what will stand there, and the first act. */
export function EmptyPlace({
  title,
  children,
  act,
  drawing,
}: {
  title: string;
  children: ReactNode;
  act?: ReactNode;
  drawing?: Drawing;
}) {
  return (
    <Frame>
      {drawing && <Sketch of={drawing} />}
      <Title level={2}>{title}</Title>
      <Typography component="div" color="text.secondary">
        {children}
      </Typography>
      {act}
    </Frame>
  );
}

/** What the small drawings show, by the place they belong to. */
const DRAWINGS = {
  racks: {
    line: "M8,8h44v84h-44z M64,8h44v84h-44z M120,8h44v84h-44z",
    water: "M14,18h32 M14,34h32 M70,18h32 M70,50h32 M126,34h32 M126,66h32",
    deep: "M14,50h32v5h-32z M126,18h32v5h-32z",
  },
  line: {
    line: "M8,60h210",
    water: "M60,60C80,26 130,26 150,60 M150,60C164,40 186,40 200,60",
    deep: "M24,46h8v8h-8z M24,34h8v8h-8z M56,46h8v8h-8z",
  },
  pins: {
    line: "M8,30h210 M8,60h210 M8,90h210",
    water: "M8,22h120v16h-120z M8,52h168v16h-168z M8,82h74v16h-74z",
    deep: "",
  },
  bar: { line: "M8,40h210v26h-210z", water: "M8,40h70v26h-70z M82,40h44v26h-44z", deep: "M196,32v42" },
  lanes: {
    line: "M8,24h210 M8,50h210 M8,76h210",
    water: "M16,18h50v12h-50z M60,44h40v12h-40z M104,70h60v12h-60z",
    deep: "",
  },
  rows: {
    line: "M8,24h210 M8,50h210 M8,76h210",
    water: "M140,16h26v4h-26z M140,42h26v4h-26z M140,68h26v4h-26z",
    deep: "M16,20h26v8h-26z",
  },
} as const;
type Drawing = keyof typeof DRAWINGS;

function Sketch({ of }: { of: Drawing }) {
  const { line, water, deep } = DRAWINGS[of];
  return (
    <svg width={226} height={104} aria-hidden fill="none" strokeWidth={1.4}>
      <path d={line} stroke={ink("ink3")} />
      <path d={water} stroke={ink("water")} fill={of === "line" || of === "racks" ? "none" : ink("water2")} />
      <path d={deep} stroke={ink("deep")} fill={ink("deep2")} />
    </svg>
  );
}
