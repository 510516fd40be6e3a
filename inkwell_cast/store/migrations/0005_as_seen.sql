-- Summaries tell what a viewer sees now, no longer the rounding of files; they are made anew from the manifests.
UPDATE bake SET summary = '';
