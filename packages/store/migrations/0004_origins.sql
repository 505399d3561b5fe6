ALTER TABLE "pipeline" ADD COLUMN "of" text;--> statement-breakpoint
ALTER TABLE "pipeline" ADD COLUMN "origin" text DEFAULT '' NOT NULL;--> statement-breakpoint
ALTER TABLE "pipeline" ADD COLUMN "place" integer DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE "pipeline" ADD CONSTRAINT "pipeline_of_pipeline_id_fk" FOREIGN KEY ("of") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;