CREATE TABLE "engine" (
	"id" text PRIMARY KEY NOT NULL,
	"name" text NOT NULL,
	"home" text NOT NULL,
	"started_at" timestamp with time zone DEFAULT now() NOT NULL,
	"seen_at" timestamp with time zone DEFAULT now() NOT NULL
);
--> statement-breakpoint
CREATE TABLE "live_status" (
	"pipeline" text PRIMARY KEY NOT NULL,
	"at" timestamp with time zone DEFAULT now() NOT NULL,
	"status" jsonb NOT NULL
);
--> statement-breakpoint
ALTER TABLE "pipeline" ADD COLUMN "holder" text;--> statement-breakpoint
ALTER TABLE "pipeline" ADD COLUMN "leased_until" timestamp with time zone;--> statement-breakpoint
ALTER TABLE "pipeline" ADD COLUMN "home" text;--> statement-breakpoint
ALTER TABLE "pipeline" ADD COLUMN "tie" text;--> statement-breakpoint
ALTER TABLE "pipeline" ADD COLUMN "recopy" jsonb DEFAULT '[]'::jsonb NOT NULL;--> statement-breakpoint
ALTER TABLE "live_status" ADD CONSTRAINT "live_status_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;