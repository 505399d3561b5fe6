CREATE TABLE "connection" (
	"id" text PRIMARY KEY NOT NULL,
	"name" text NOT NULL,
	"kind" text NOT NULL,
	"config" jsonb NOT NULL,
	"secrets" text NOT NULL,
	"last_check" jsonb,
	"created_at" timestamp with time zone DEFAULT now() NOT NULL,
	CONSTRAINT "connection_name_unique" UNIQUE("name")
);
--> statement-breakpoint
CREATE TABLE "figure" (
	"pipeline" text NOT NULL,
	"resolution" integer NOT NULL,
	"at" timestamp with time zone NOT NULL,
	"committed" bigint NOT NULL,
	"landed" bigint NOT NULL,
	"lag" double precision,
	CONSTRAINT "figure_pipeline_resolution_at_pk" PRIMARY KEY("pipeline","resolution","at")
);
--> statement-breakpoint
CREATE TABLE "log_entry" (
	"id" bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY (sequence name "log_entry_id_seq" INCREMENT BY 1 MINVALUE 1 MAXVALUE 9223372036854775807 START WITH 1 CACHE 1),
	"at" timestamp with time zone DEFAULT now() NOT NULL,
	"level" text NOT NULL,
	"pipeline" text,
	"message" text NOT NULL,
	"remedy" text,
	"by_person" boolean DEFAULT false NOT NULL
);
--> statement-breakpoint
CREATE TABLE "pipeline" (
	"id" text PRIMARY KEY NOT NULL,
	"definition" jsonb NOT NULL,
	"state" text NOT NULL,
	"wanted" text NOT NULL,
	"reason" jsonb,
	"epoch" integer DEFAULT 0 NOT NULL,
	"fresh_from" integer DEFAULT 1 NOT NULL,
	"lanes" jsonb DEFAULT '[]'::jsonb NOT NULL,
	"steps" jsonb DEFAULT '[]'::jsonb NOT NULL,
	"started_at" timestamp with time zone,
	"created_at" timestamp with time zone DEFAULT now() NOT NULL
);
--> statement-breakpoint
CREATE TABLE "run" (
	"id" text PRIMARY KEY NOT NULL,
	"pipeline" text NOT NULL,
	"from" text NOT NULL,
	"to" text NOT NULL,
	"started_at" timestamp with time zone NOT NULL,
	"ended_at" timestamp with time zone,
	"rows" bigint DEFAULT 0 NOT NULL,
	"bytes" bigint DEFAULT 0 NOT NULL
);
--> statement-breakpoint
ALTER TABLE "figure" ADD CONSTRAINT "figure_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "log_entry" ADD CONSTRAINT "log_entry_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "run" ADD CONSTRAINT "run_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "log_entry_pipeline" ON "log_entry" USING btree ("pipeline","id");