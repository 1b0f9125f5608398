// The one way in which forms are made: a label, a description and an error tied to each input, what
// the service found wrong at the input that it is about, and no input drawn again for another's sake.

import { Box, Field, Input, NativeSelect, type InputProps } from "@chakra-ui/react";
import { type ReactNode } from "react";
import { FormProvider, useForm, useFormContext, type DefaultValues, type FieldValues, type Path, type UseFormReturn } from "react-hook-form";
import { Problem } from "../api";
import { inputStyle } from "./controls";
import { Failure } from "./page";

/** The state of a form that begins with these values. */
export const useFields = <T extends FieldValues>(initial: T) => useForm<T>({ defaultValues: initial as DefaultValues<T> });

/**
 * A form. What the service says is wrong is shown at the field that its path ends with, else at the
 * field named whole, else above the fields.
 */
export function Fields<T extends FieldValues>({ of, submit, whole, id, children }: { of: UseFormReturn<T>; submit: (values: T) => Promise<unknown> | void; whole?: Path<T>; id?: string; children: ReactNode }) {
  async function send(values: T) {
    try {
      await submit(values);
    } catch (error) {
      const known = (name: string) => name in of.getValues();
      const problems = error instanceof Problem ? (error.body.problems ?? []) : [];
      const placed = problems.map((p) => ({ name: p.path.split(/[.[]/).pop()!.replace("]", ""), text: p.text })).filter((p) => known(p.name));
      for (const p of placed) of.setError(p.name as Path<T>, { message: p.text });
      if (placed.length > 0 && placed.length === problems.length) return;
      if (whole && error instanceof Problem && problems.length === 0) of.setError(whole, { message: error.message });
      else of.setError("root", { type: "service", message: String(error), ...({ error } as object) });
    }
  }
  const root = of.formState.errors.root as { error?: unknown } | undefined;
  return (
    <FormProvider {...of}>
      <form id={id} noValidate onSubmit={(e) => (e.stopPropagation(), void of.handleSubmit(send)(e))}>
        <Failure error={root?.error} />
        {children}
      </form>
    </FormProvider>
  );
}

type Common = { name: string; label: string; help?: ReactNode; rules?: Parameters<ReturnType<typeof useFormContext>["register"]>[1] };

/** Any control with its label, help and error. */
export function Labelled({ name, label, help, error, children }: { name: string; label: string; help?: ReactNode; error?: string; children: ReactNode }) {
  return (
    <Field.Root mb="3" invalid={!!error} data-input={name}>
      <Field.Label fontSize="13px">{label}</Field.Label>
      {children}
      {help && <Field.HelperText>{help}</Field.HelperText>}
      {error && <Field.ErrorText role="alert">✕ {error}</Field.ErrorText>}
    </Field.Root>
  );
}

const useError = (name: string) => {
  const { getFieldState, formState } = useFormContext();
  return getFieldState(name, formState).error?.message;
};

export function TextField({ name, label, help, rules, ...rest }: Common & Omit<InputProps, "name">) {
  const { register } = useFormContext();
  return (
    <Labelled name={name} label={label} help={help} error={useError(name)}>
      <Input {...inputStyle} {...rest} {...register(name, rules)} />
    </Labelled>
  );
}

export function PickField({ name, label, help, rules, children }: Common & { children: ReactNode }) {
  const { register } = useFormContext();
  return (
    <Labelled name={name} label={label} help={help} error={useError(name)}>
      <NativeSelect.Root size="sm">
        <NativeSelect.Field bg="sheet" borderColor="control" {...register(name, rules)}>
          {children}
        </NativeSelect.Field>
        <NativeSelect.Indicator />
      </NativeSelect.Root>
    </Labelled>
  );
}

/** A box to tick, with its words. */
export function TickField({ name, label }: { name: string; label: string }) {
  const { register } = useFormContext();
  return (
    <Box as="label" display="inline-flex" alignItems="center" gap="2" cursor="pointer" minH="24px">
      <input type="checkbox" {...register(name)} style={{ accentColor: "var(--chakra-colors-accent)", width: 16, height: 16, margin: 0 }} />
      {label}
    </Box>
  );
}
