import { useQuery } from "@tanstack/react-query";
import { useId } from "react";
import { companyQuery } from "../../api/queries";
import { Labelled } from "../../parts/fields";

/** A field for a reason; those that the company keeps are offered. */
export function ReasonField({
  label,
  help,
  value,
  required,
  maxLength,
  onChange,
}: {
  label: string;
  help?: string;
  value: string;
  required?: boolean;
  maxLength: number;
  onChange: (text: string) => void;
}) {
  const company = useQuery(companyQuery);
  const id = useId();
  return (
    <Labelled label={label} help={help}>
      <input
        className="field w-full"
        list={id}
        required={required}
        maxLength={maxLength}
        value={value}
        onChange={(e) => onChange(e.target.value)}
      />
      <datalist id={id}>
        {company.data?.reasons?.map((r) => (
          <option key={r} value={r} />
        ))}
      </datalist>
    </Labelled>
  );
}
