import { styled } from "@mui/material/styles";
import TextField, { type TextFieldProps } from "@mui/material/TextField";

import { Refused } from "../api/client";
import { ink } from "../theme/theme";
import { Notice } from "./Notice";

/** The field of a request that a refusal is about; a part of a field counts as the field. */
const fieldOf = (error: Error | null): string =>
  error instanceof Refused ? (error.problem.field?.split(".")[0] ?? "") : "";

type Props = Omit<TextFieldProps, "error"> & {
  /** What the field is called in the request. */
  field: string;
  /** Why the request was refused, if it was. */
  refused: Error | null;
};

/** A text field that says itself what is wrong with what stands in it. */
export function Field({ field, refused, helperText, ...rest }: Props) {
  const isWrong = refused !== null && fieldOf(refused) === field;
  return (
    <TextField
      size="small"
      {...rest}
      error={isWrong}
      helperText={isWrong ? <span role="alert">{refused.message}</span> : helperText}
    />
  );
}

/** A refusal that none of the fields on the form says. */
export function Unsaid({ error, fields, title }: { error: Error | null; fields: string[]; title?: string }) {
  if (error === null || fields.includes(fieldOf(error))) return null;
  return <Notice title={title}>{error.message}</Notice>;
}

/** A name that is changed where it stands: it looks like the name, on a dotted line. */
export const InPlace = styled("input")({
  font: "inherit",
  fontWeight: 650,
  color: ink("ink"),
  backgroundColor: "transparent",
  border: 0,
  borderBottom: `1px dotted ${ink("ink3")}`,
  borderRadius: 0,
  width: "100%",
  padding: 0,
});
