CREATE TABLE "lane_figure" (
	"pipeline" text NOT NULL,
	"table" text NOT NULL,
	"resolution" integer NOT NULL,
	"at" timestamp with time zone NOT NULL,
	"inserted" bigint NOT NULL,
	"updated" bigint NOT NULL,
	"deleted" bigint NOT NULL,
	"truncated" bigint NOT NULL,
	"bytes" bigint NOT NULL,
	CONSTRAINT "lane_figure_pipeline_table_resolution_at_pk" PRIMARY KEY("pipeline","table","resolution","at")
);
--> statement-breakpoint
ALTER TABLE "figure" ADD COLUMN "copied" bigint DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE "run" ADD COLUMN "kind" text DEFAULT 'copy' NOT NULL;--> statement-breakpoint
ALTER TABLE "run" ADD COLUMN "state" text DEFAULT 'done' NOT NULL;--> statement-breakpoint
ALTER TABLE "run" ADD COLUMN "told_at" timestamp with time zone DEFAULT now() NOT NULL;--> statement-breakpoint
ALTER TABLE "run" ADD COLUMN "reads" bigint DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE "run" ADD COLUMN "writes" bigint DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE "run" ADD COLUMN "retries" integer DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE "run" ADD COLUMN "held" integer DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE "run" ADD COLUMN "lanes" jsonb DEFAULT '[]'::jsonb NOT NULL;--> statement-breakpoint
ALTER TABLE "run" ADD COLUMN "note" text;--> statement-breakpoint
ALTER TABLE "lane_figure" ADD CONSTRAINT "lane_figure_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "run_pipeline" ON "run" USING btree ("pipeline","started_at");--> statement-breakpoint
UPDATE "run" SET "state" = 'cut off', "ended_at" = "started_at" WHERE "ended_at" IS NULL;